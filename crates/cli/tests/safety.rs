//! No foreign file or disk is touched: what shares bytes, where state goes, what is refused first.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;
use std::io::{BufRead, BufReader, Read};
use std::os::unix::fs::{MetadataExt, PermissionsExt, symlink};
use std::process::Stdio;

use common::{Bench, Loop, PROGRAM, Run, demo, small_image};
use pinewrit_judges::needs;
use rstest::rstest;

const MIB: usize = 1 << 20;

fn bench() -> Bench {
    let bench = Bench::new();
    bench.write("a.img", small_image());
    bench
}

/// The image and the medium are the same thing, one by its file and one by its device.
#[rstest]
#[case::device_of_the_image(false)]
#[case::image_from_the_device(true)]
fn an_image_is_not_written_over_itself(#[case] turned: bool) {
    let bench = bench();
    let Some(device) = Loop::over(&bench.path("a.img"), &[]) else {
        return;
    };
    let (image, medium) = match turned {
        false => ("a.img", device.path.as_str()),
        true => (device.path.as_str(), "a.img"),
    };
    bench
        .run(&["write", image, "--to", medium, "--yes"])
        .expect(3);
    assert!(bench.read("a.img") == small_image());
}

/// Two devices that show parts of one file: whoever writes one changes what the other has mounted.
#[test]
fn a_device_whose_file_is_shown_elsewhere_is_busy() {
    let bench = bench();
    let behind = bench.write("behind.img", vec![0x5a; 32 * MIB]);
    let (Some(whole), Some(part)) = (
        Loop::over(&behind, &[]),
        Loop::over(&behind, &["--offset", "1048576"]),
    ) else {
        return;
    };
    for path in [&whole.path, &part.path] {
        bench
            .run(&["write", "a.img", "--to", path, "--yes"])
            .expect(3)
            .says(&["is in use", "attached"]);
    }
    assert!(bench.read("behind.img") == vec![0x5a; 32 * MIB]);
}

/// The file system that holds the image is on the medium.
#[test]
fn a_medium_that_holds_what_is_needed_is_not_unmounted_for_it() {
    needs!["mke2fs", "mount", "umount"];
    let bench = bench();
    let behind = bench.write("behind.img", vec![0; 32 * MIB]);
    let Some(device) = Loop::over(&behind, &[]) else {
        return;
    };
    bench
        .judge("mke2fs", &["-q", &device.path])
        .unwrap()
        .expect(0);
    fs::create_dir(bench.path("on")).unwrap();
    if bench
        .judge("mount", &[&device.path, "on"])
        .is_none_or(|run| run.code != 0)
    {
        return common::say_skipped("mounts");
    }
    fs::create_dir(bench.path("on/state")).unwrap();
    bench.write("on/inside.img", small_image());
    let outside = ["write", "a.img", "--to", &device.path, "--yes", "--unmount"];
    let receipt = [&outside[..], &["--receipt", "on/receipt.json"]].concat();
    let report = [&outside[..], &["--report", "on/report.html"]].concat();
    let inside = [
        "write",
        "on/inside.img",
        "--to",
        &device.path,
        "--yes",
        "--unmount",
    ];
    let refused = [
        bench.run(&inside),
        bench.run(&receipt),
        bench.run(&report),
        Run::from(
            bench
                .command(&outside)
                .env("XDG_STATE_HOME", bench.path("on/state"))
                .output()
                .unwrap(),
        ),
    ];
    let is_mounted = bench.path("on/inside.img").exists();
    bench.judge("umount", &["on"]).unwrap().expect(0);
    for (run, what) in refused
        .into_iter()
        .zip(["image", "receipt", "report", "state directory"])
    {
        run.expect(3).says(&["cannot be written", what]);
    }
    assert!(is_mounted);
}

#[rstest]
#[case::names_of_their_own("page.html", 0)]
#[case::the_same_name("new.img", 3)]
#[case::the_same_name_by_another_way("./sub/../new.img", 3)]
fn what_is_not_there_yet_can_be_the_same_thing_too(#[case] report: &str, #[case] code: i32) {
    let bench = Bench::new();
    bench.write("a.img", small_image());
    fs::create_dir(bench.path("sub")).unwrap();
    let write = ["write", "a.img", "--to", "new.img", "--size", "16MiB"];
    let more = ["--yes", "--report", report, "--receipt", "receipt.json"];
    bench.run(&[&write[..], &more].concat()).expect(code);
    assert_eq!(bench.path("page.html").exists(), code == 0);
    assert_eq!(bench.path("receipt.json").exists(), code == 0);
}

/// A tree of `/sys` and `/proc` in which one disk runs the computer.
fn recorded(bench: &Bench) {
    let disk = bench.path("tree/sys/devices/pci0000/ata1/host0/block/sda");
    for (name, number) in [("sda", "8:0"), ("sda/sda1", "8:1")] {
        let home = disk.parent().unwrap().join(name);
        fs::create_dir_all(home.join("holders")).unwrap();
        fs::create_dir_all(home.join("slaves")).unwrap();
        let links = [
            ("class/block", name.rsplit('/').next().unwrap()),
            ("dev/block", number),
        ];
        for (folder, link) in links {
            let folder = bench.path("tree/sys").join(folder);
            fs::create_dir_all(&folder).unwrap();
            symlink(&home, folder.join(link)).unwrap();
        }
    }
    fs::write(disk.join("size"), "500000000\n").unwrap();
    fs::write(disk.join("sda1/partition"), "1\n").unwrap();
    fs::create_dir_all(bench.path("tree/proc/self")).unwrap();
    fs::create_dir_all(bench.path("tree/dev")).unwrap();
    let mounts = "27 1 8:1 / / rw,relatime - ext4 /dev/sda1 rw\n";
    fs::write(bench.path("tree/proc/self/mountinfo"), mounts).unwrap();
}

/// Whatever is asked of the disk that runs the computer, the verdict comes first.
#[rstest]
#[case::write(&["write", "a.img", "--to", "TAG", "--yes"])]
#[case::write_dry(&["write", "a.img", "--to", "TAG", "--dry-run"])]
#[case::write_into(&["write", "a.img", "--to", "TAG", "--into", "1", "--yes"])]
#[case::build(&["build", "LAYOUT", "--to", "TAG", "--yes"])]
#[case::configure(&["configure", "TAG", "--settings", "hut.toml", "--yes"])]
#[case::configure_dry(&["configure", "TAG", "--settings", "hut.toml", "--dry-run"])]
#[case::table(&["table", "create", "TAG", "--scheme", "gpt", "--yes"])]
#[case::table_dry(&["table", "wipe", "TAG", "--dry-run"])]
#[case::renew(&["table", "renew", "TAG", "--yes"])]
#[case::format(&["format", "TAG", "1", "--as", "fat32", "--yes"])]
#[case::format_dry(&["format", "TAG", "1", "--as", "fat32", "--dry-run"])]
#[case::put(&["files", "put", "TAG", "1:/x", "hut.toml", "--yes"])]
#[case::edit_dry(&["files", "edit", "TAG", "1:/x", "--on", "y", "--dry-run"])]
fn the_disk_that_runs_the_computer_is_refused_first(#[case] args: &[&str]) {
    if !cfg!(debug_assertions) {
        return common::say_skipped("recorded trees in a program that is not built for tests");
    }
    let bench = bench();
    recorded(&bench);
    bench.write("hut.toml", "hostname = \"larkfell-03\"\n");
    let run = |args: &[&str]| {
        let mut command = bench.command(args);
        command.env("PINEWRIT_RECORDED_TREE", bench.path("tree"));
        Run::from(command.output().unwrap())
    };
    let listed = run(&["--json", "media", "--all"]).expect(0).json();
    let tag = listed["media"][0]["tag"].as_str().unwrap().to_owned();
    assert_eq!(listed["media"][0]["verdict"], "system");
    let layout = demo("layout.toml");
    let args: Vec<&str> = args
        .iter()
        .map(|arg| match *arg {
            "TAG" => &tag,
            "LAYOUT" => layout.to_str().unwrap(),
            arg => arg,
        })
        .collect();
    run(&args)
        .expect(3)
        .says(&["runs this computer, and is never written"]);
}

/// The same of the disk that really runs this one, as nobody who could open it.
#[rstest]
#[case::table(&["table", "create", "DISK", "--scheme", "gpt", "--yes"])]
#[case::table_dry(&["table", "create", "DISK", "--scheme", "gpt", "--dry-run"])]
#[case::format(&["format", "DISK", "1", "--as", "fat32", "--yes"])]
#[case::configure_dry(&["configure", "DISK", "--settings", "hut.toml", "--dry-run"])]
#[case::put_dry(&["files", "put", "DISK", "1:/x", "hut.toml", "--dry-run"])]
fn nobody_is_told_to_use_sudo_on_the_computers_own_disk(#[case] args: &[&str]) {
    needs!["setpriv"];
    if !rustix::process::geteuid().is_root() {
        return common::say_skipped("another user (root is needed)");
    }
    let disk = fs::metadata("/").unwrap().dev();
    let (major, minor) = (rustix::fs::major(disk), rustix::fs::minor(disk));
    let real = fs::canonicalize(format!("/sys/dev/block/{major}:{minor}"));
    let Some(name) = real
        .ok()
        .and_then(|path| Some(path.file_name()?.to_str()?.to_owned()))
    else {
        return common::say_skipped("a block device under the root file system");
    };
    let bench = bench();
    bench.write("hut.toml", "hostname = \"larkfell-03\"\n");
    let disk = format!("/dev/{name}");
    let args: Vec<&str> = args
        .iter()
        .map(|arg| if *arg == "DISK" { &disk } else { *arg })
        .collect();
    let run = as_nobody(&bench, &args, &[]);
    if run.stderr.contains("is a partition") {
        return common::say_skipped("a whole device under the root file system");
    }
    run.expect(3).says(&["runs this computer"]);
}

/// Runs the program as a user without a home and without rights.
fn as_nobody(bench: &Bench, args: &[&str], variables: &[(&str, &str)]) -> Run {
    let program = bench.path("pinewrit");
    fs::copy(PROGRAM, &program).unwrap();
    let open = fs::Permissions::from_mode(0o755);
    fs::set_permissions(bench.folder(), open).unwrap();
    let mut command = pinewrit_judges::command("setpriv");
    command
        .args(["--reuid", "65534", "--regid", "65534", "--clear-groups"])
        .arg(&program)
        .args(args)
        .current_dir(bench.folder())
        .env_remove("XDG_STATE_HOME")
        .env_remove("HOME")
        .envs(variables.iter().copied())
        .stdin(Stdio::null());
    Run::from(command.output().unwrap())
}

#[rstest]
#[case::unset(&[])]
#[case::empty(&[("HOME", "")])]
#[case::relative(&[("HOME", "here")])]
#[case::not_there(&[("HOME", "/nonexistent")])]
fn without_a_home_nothing_is_kept_in_a_shared_folder(#[case] variables: &[(&str, &str)]) {
    needs!["setpriv"];
    if !rustix::process::geteuid().is_root() {
        return common::say_skipped("another user (root is needed)");
    }
    let bench = bench();
    let (trap, card) = (
        bench.write("precious", "somebody's"),
        bench.path("card.img"),
    );
    bench.write("hut.toml", "hostname = \"larkfell-03\"\n");
    fs::set_permissions(&trap, fs::Permissions::from_mode(0o666)).unwrap();
    fs::write(&card, small_image()).unwrap();
    fs::set_permissions(&card, fs::Permissions::from_mode(0o666)).unwrap();
    let before = fs::metadata("/tmp/pinewrit").is_ok();
    let args = ["configure", "card.img", "--settings", "hut.toml", "--yes"];
    let run = as_nobody(&bench, &args, variables);
    assert!(matches!(run.code, 1 | 2), "{}", run.stderr);
    assert!(run.stderr.contains("XDG_STATE_HOME"), "{}", run.stderr);
    assert_eq!(fs::metadata("/tmp/pinewrit").is_ok(), before);
    assert!(fs::read(&card).unwrap() == small_image());
    assert_eq!(fs::read_to_string(trap).unwrap(), "somebody's");
}

/// Where the undo file belongs, a link waits that leads to somebody's file.
#[test]
fn a_link_in_the_place_of_the_undo_file_is_not_followed() {
    let bench = bench();
    let victim = bench.write("victim", "somebody's");
    fs::create_dir_all(bench.path("state/pinewrit")).unwrap();
    let card = fs::canonicalize(bench.path("a.img")).unwrap();
    let name: String = card
        .to_string_lossy()
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() { c } else { '_' })
        .collect();
    let place = bench.path(&format!("state/pinewrit/{name}.undo"));
    symlink(&victim, &place).unwrap();
    bench.write("hut.toml", "hostname = \"larkfell-03\"\n");
    bench
        .run(&["files", "put", "a.img", "1:/hut.txt", "hut.toml", "--yes"])
        .expect(0);
    assert_eq!(fs::read_to_string(&victim).unwrap(), "somebody's");
}

#[test]
fn state_is_for_its_owner_only_and_not_where_everybody_writes() {
    let bench = bench();
    bench
        .run(&["write", "a.img", "--to", "b.img", "--size", "16MiB"])
        .expect(0);
    let mode = |path: &str| fs::metadata(bench.path(path)).unwrap().mode() & 0o777;
    assert_eq!(mode("state/pinewrit"), 0o700);
    let receipts: Vec<_> = fs::read_dir(bench.path("state/pinewrit/receipts"))
        .unwrap()
        .collect();
    let receipt = receipts.into_iter().next().unwrap().unwrap();
    assert_eq!(receipt.metadata().unwrap().mode() & 0o777, 0o600);
    fs::create_dir(bench.path("open")).unwrap();
    fs::set_permissions(bench.path("open"), fs::Permissions::from_mode(0o777)).unwrap();
    let mut command = bench.command(&["write", "a.img", "--to", "c.img", "--size", "16MiB"]);
    let run = command
        .env("XDG_STATE_HOME", bench.path("open"))
        .output()
        .unwrap();
    Run::from(run)
        .expect(2)
        .says(&["others can write to", "open"]);
    assert!(!bench.path("c.img").exists());
}

#[rstest]
#[case::write(&["write", "a.img", "--to", "/dev/pinewrit-none", "--size", "16MiB"])]
#[case::build(&["build", "LAYOUT", "--to", "/dev/pinewrit-none", "--size", "150MiB"])]
#[case::table(&["table", "create", "/dev/pinewrit-none", "--scheme", "mbr", "--size", "16MiB"])]
fn no_card_file_is_made_among_the_devices(#[case] args: &[&str]) {
    let layout = demo("layout.toml");
    let args: Vec<&str> = args
        .iter()
        .map(|arg| {
            if *arg == "LAYOUT" {
                layout.to_str().unwrap()
            } else {
                *arg
            }
        })
        .collect();
    let run = bench().run(&args).expect(2);
    assert!(
        run.stderr.contains("there is no device /dev/pinewrit-none"),
        "{}",
        run.stderr
    );
    assert!(!run.stderr.contains("--size"), "{}", run.stderr);
    assert!(!std::path::Path::new("/dev/pinewrit-none").exists());
}

/// What the real run refuses, its dry run refuses.
#[rstest]
#[case::table(&["table", "create", "a.img", "--scheme", "gpt"])]
#[case::put(&["files", "put", "a.img", "1:/x", "hut.toml"])]
#[case::format(&["format", "a.img", "1", "--as", "fat32"])]
#[case::configure(&["configure", "a.img", "--settings", "hut.toml"])]
fn dry_runs_make_the_same_checks(#[case] args: &[&str]) {
    let bench = bench();
    bench.write("hut.toml", "hostname = \"larkfell-03\"\n");
    let Some(device) = Loop::over(&bench.path("a.img"), &[]) else {
        return;
    };
    for option in ["--yes", "--dry-run"] {
        bench.run(&[args, &[option]].concat()).expect(3).says(&[
            "is in use",
            "attached",
            &device.path,
        ]);
    }
}

/// A new card file in a dry run is made nowhere.
#[test]
fn a_dry_run_of_a_new_table_leaves_no_file() {
    let bench = Bench::new();
    let create = [
        "table", "create", "new.img", "--scheme", "gpt", "--size", "64MiB",
    ];
    bench
        .run(&[&create[..], &["--dry-run"]].concat())
        .expect(0)
        .shows(&["GPT"]);
    assert_eq!(
        fs::read_dir(bench.folder())
            .unwrap()
            .filter(|entry| { entry.as_ref().unwrap().file_name() != "state" })
            .count(),
        0
    );
}

/// An image for sectors of 512 bytes is not one for 4096.
#[test]
fn an_image_for_other_sectors_is_refused() {
    let bench = Bench::with_hut();
    let behind = bench.write("behind.img", vec![0; 160 * MIB]);
    let Some(device) = Loop::over(&behind, &["--sector-size", "4096"]) else {
        return;
    };
    for option in ["--yes", "--dry-run"] {
        bench
            .run(&["write", "hut.img", "--to", &device.path, option])
            .expect(3)
            .says(&["other sectors", "512 bytes", "4096 bytes"]);
    }
    assert!(bench.read("behind.img").iter().all(|byte| *byte == 0));
}

/// An intake with one step whose content is this template.
fn template(bench: &Bench, content: &str) -> Run {
    let intake =
        format!("name = \"odd\"\n[[step]]\nplace = \"1:/odd.txt\"\ncontent = '''\n{content}'''\n");
    bench.write("odd.toml", intake);
    bench.write("hut.toml", "hostname = \"larkfell-03\"\n");
    bench.run(&[
        "configure",
        "a.img",
        "--settings",
        "hut.toml",
        "--intake",
        "odd.toml",
        "--dry-run",
    ])
}

#[rstest]
#[case::replace(
    "{% set a = 'x' * 900 %}\n{{ a|replace('x',a)|replace('x',a)|replace('x',a) }}\n",
    "memory"
)]
#[case::indent("one\n{{ 'a\nb'|indent(99999999999) }}\n", "line")]
#[case::repeat("one\n\n{{ 'x' * 99999999999 }}\n", "line")]
#[case::doubling(
    "{% set a = settings.hostname %}\n{% set a = a ~ a ~ a ~ a ~ a ~ a ~ a ~ a %}\n{% set a = a ~ a ~ a ~ a ~ a ~ a ~ a ~ a %}\n{% set a = a ~ a ~ a ~ a ~ a ~ a ~ a ~ a %}\n{% set a = a ~ a ~ a ~ a ~ a ~ a ~ a ~ a %}\n{% set a = a ~ a ~ a ~ a ~ a ~ a ~ a ~ a %}\n{% set a = a ~ a ~ a ~ a ~ a ~ a ~ a ~ a %}\n{% set a = a ~ a ~ a ~ a ~ a ~ a ~ a ~ a %}\n{% set a = a ~ a ~ a ~ a ~ a ~ a ~ a ~ a %}\n{{ a|length }}\n",
    "memory in its line"
)]
#[case::batch("{{ range(10)|batch(9999999999)|list }}\n", "step 1")]
#[case::hashes(
    "{% for i in range(100000) %}{{ 'x'|sha512crypt }}{% endfor %}\n",
    "line 1"
)]
#[case::endless(
    "{% for i in range(100000) %}{{ settings.hostname }}{% endfor %}\n",
    "more than 1048576 bytes"
)]
fn templates_are_bounded(#[case] content: &str, #[case] words: &str) {
    let bench = bench();
    let before = std::time::Instant::now();
    let run = template(&bench, content).expect(7);
    assert!(run.stderr.contains(words), "{}", run.stderr);
    assert!(before.elapsed().as_secs() < 60);
}

#[test]
fn a_template_within_bounds_works() {
    let bench = bench();
    template(
        &bench,
        "{{ settings.hostname|upper }} {{ ('ab' * 3)|replace('a', 'c') }}\n",
    )
    .expect(0)
    .shows(&["LARKFELL-03 cbcbcb"]);
}

/// Standard output that cannot be written is told, whatever was printed.
#[rstest]
#[case::list(&["files", "list", "hut.img", "root:/etc"])]
#[case::expected(&["files", "list", "hut.img", "root:/etc", "--expected"])]
#[case::inspect(&["--json", "inspect", "hut.img"])]
#[case::read(&["files", "read", "hut.img", "root:/etc/passwd"])]
#[case::media(&["media"])]
fn a_full_output_is_no_success(#[case] args: &[&str]) {
    let bench = Bench::with_hut();
    let full = fs::File::options().write(true).open("/dev/full").unwrap();
    let run = bench.command(args).stdout(full).output().unwrap();
    Run::from(run).expect(1).says(&["No space left on device"]);
}

/// Somebody who reads no more, as `head` does, ends every command quietly.
#[rstest]
#[case::read(&["files", "read", "hut.img", "root:/opt/huts/big"])]
#[case::tree(&["files", "tree", "hut.img", "root:/"])]
#[case::inspect(&["inspect", "hut.img"])]
#[case::json(&["--json", "inspect", "hut.img"])]
#[case::help(&["--help"])]
fn a_closed_pipe_ends_quietly(#[case] args: &[&str]) {
    let bench = Bench::with_hut();
    bench.write("big", vec![b'x'; 4 * MIB]);
    bench
        .run(&[
            "files",
            "put",
            "hut.img",
            "root:/opt/huts/big",
            "big",
            "--yes",
        ])
        .expect(0);
    let mut command = bench.command(args);
    let mut child = command
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    drop(child.stdout.take());
    let mut said = String::new();
    child
        .stderr
        .take()
        .unwrap()
        .read_to_string(&mut said)
        .unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(0), "{said}");
    assert!(!said.to_lowercase().contains("pipe"), "{said}");
}

#[test]
fn names_cannot_turn_the_text_around() {
    let bench = Bench::with_hut();
    bench.write("x", "x");
    let place = "root:/opt/huts/gpj.\u{202e}exe\u{2066}";
    bench
        .run(&["files", "put", "hut.img", place, "x", "--yes"])
        .expect(0);
    for args in [
        &["files", "list", "hut.img", "root:/opt/huts"][..],
        &["files", "tree", "hut.img", "root:/opt"],
        &[
            "files",
            "read",
            "hut.img",
            "root:/opt/huts/gpj.\u{202e}none",
        ],
        &["--json", "files", "list", "hut.img", "root:/opt/huts"],
    ] {
        let run = bench.run(args);
        let all = run.stdout + &run.stderr;
        assert!(!all.contains(['\u{202e}', '\u{2066}']), "{all}");
    }
}

/// Signals that ask for an end, the one of a closed terminal among them, end a write in order.
#[rstest]
#[case::hup(rustix::process::Signal::HUP)]
#[case::term(rustix::process::Signal::TERM)]
fn a_closed_terminal_ends_in_order(#[case] signal: rustix::process::Signal) {
    let bench = bench();
    bench.write(
        "rack.toml",
        "[[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n\
         [[cards]]\nname = \"card\"\nfile = \"card.img\"\nsize = \"64MiB\"\nwrite-speed = \"2MB/s\"\n",
    );
    let args = [
        "--json",
        "--rack",
        "rack.toml",
        "write",
        "a.img",
        "--to",
        "rack:slot",
        "--yes",
    ];
    let mut command = bench.command(&args);
    let mut child = command.stdout(Stdio::piped()).spawn().unwrap();
    let told = BufReader::new(child.stdout.take().unwrap()).lines();
    let mut told = told.map_while(Result::ok);
    assert!(told.any(|line| line.contains(r#""stage":"write""#)));
    let pid = rustix::process::Pid::from_child(&child);
    rustix::process::kill_process(pid, signal).unwrap();
    assert_eq!(child.wait().unwrap().code(), Some(130));
    assert!(
        bench.read("card.img")[..4 * MIB]
            .iter()
            .all(|byte| *byte == 0)
    );
}

#[test]
fn what_a_killed_build_left_goes_with_the_next() {
    let bench = Bench::new();
    let left = bench.path(".pinewrit-build-left");
    fs::create_dir(&left).unwrap();
    fs::write(left.join("layout.toml"), "half a medium").unwrap();
    let hour = std::time::Duration::from_secs(3600);
    let long_ago = std::time::SystemTime::now() - hour;
    fs::File::open(&left)
        .unwrap()
        .set_modified(long_ago)
        .unwrap();
    let used = bench.path(".pinewrit-build-used");
    fs::create_dir(&used).unwrap();
    let lock = fs::File::open(&used).unwrap();
    rustix::fs::flock(&lock, rustix::fs::FlockOperation::LockExclusive).unwrap();
    let layout = demo("layout.toml");
    let build = [
        "build",
        layout.to_str().unwrap(),
        "--to",
        "hut.img",
        "--size",
        "150MiB",
    ];
    bench.run(&build).expect(0);
    assert!(!left.exists());
    assert!(used.exists());
}

#[test]
fn more_inodes_than_there_can_be_are_a_mistake() {
    let bench = Bench::new();
    let layout = "[medium]\nscheme = \"mbr\"\n[[partition]]\nsize = \"8MiB\"\nfilesystem = \"ext4\"\n\
                  inodes = \"4294967295\"\n";
    bench.write("layout.toml", layout);
    let run = bench.run(&["build", "layout.toml", "--to", "x.img", "--size", "16MiB"]);
    assert_ne!(run.code, 0);
    assert!(run.stderr.contains("4294967295 inodes"), "{}", run.stderr);
    assert!(!bench.path("x.img").exists());
}

/// Folders in folders, deeper than any path can name.
#[test]
fn a_deep_archive_ends_soon() {
    let bench = bench();
    let mut tar = tar::Builder::new(Vec::new());
    let mut path = String::new();
    for _ in 0..3000 {
        path += "d/";
        let mut head = tar::Header::new_gnu();
        head.set_entry_type(tar::EntryType::Directory);
        head.set_size(0);
        head.set_mode(0o755);
        head.set_uid(0);
        head.set_gid(0);
        head.set_mtime(0);
        tar.append_data(&mut head, &path, std::io::empty()).unwrap();
    }
    bench.write("deep.tar", tar.into_inner().unwrap());
    let before = std::time::Instant::now();
    let run = bench.run(&["files", "unpack", "a.img", "1:/", "deep.tar", "--yes"]);
    assert_ne!(run.code, 0);
    assert!(run.stderr.contains("at most 259"), "{}", run.stderr);
    assert!(before.elapsed().as_secs() < 30, "{:?}", before.elapsed());
    assert!(bench.read("a.img") == small_image());
}

/// What never ends, or waits for a writer, is no file.
#[rstest]
#[case::password("[[users]]\nname = \"warden\"\npassword-file = \"FIFO\"\n")]
#[case::file("[[file]]\nfrom = \"FIFO\"\nto = \"1:/x\"\n")]
#[case::endless("[[file]]\nfrom = \"/dev/zero\"\nto = \"1:/x\"\n")]
fn pipes_and_devices_are_not_read_by_settings(#[case] text: &str) {
    let bench = bench();
    let fifo = bench.path("pipe");
    rustix::fs::mkfifoat(rustix::fs::CWD, &fifo, rustix::fs::Mode::RWXU).unwrap();
    bench.write("hut.toml", text.replace("FIFO", fifo.to_str().unwrap()));
    let run = bench.run(&["configure", "a.img", "--settings", "hut.toml", "--dry-run"]);
    run.expect(7).says(&["not a file"]);
}

#[rstest]
#[case::pipe("FIFO")]
#[case::device("/dev/zero")]
fn pipes_and_devices_are_not_read_by_layouts(#[case] from: &str) {
    let bench = Bench::new();
    let fifo = bench.path("pipe");
    rustix::fs::mkfifoat(rustix::fs::CWD, &fifo, rustix::fs::Mode::RWXU).unwrap();
    let from = from.replace("FIFO", fifo.to_str().unwrap());
    let layout = format!(
        "[medium]\nscheme = \"mbr\"\n[[partition]]\nsize = \"8MiB\"\nfilesystem = \"ext4\"\n\
         [[partition.content]]\nfrom = \"{from}\"\nto = \"/x\"\n"
    );
    bench.write("layout.toml", layout);
    bench
        .run(&["build", "layout.toml", "--to", "x.img", "--size", "16MiB"])
        .expect(7)
        .says(&["is a pipe or a device"]);
}

#[test]
fn what_is_advised_is_free() {
    let run = Bench::new().run(&[
        "estimate",
        "net",
        "192.168.1.0/25",
        "--with",
        "10.77.3.0/24",
    ]);
    let all = run.stdout + &run.stderr;
    assert!(all.contains("such as 10.77.4.0/24"), "{all}");
    assert!(!all.contains("such as 10.77.3.0/24"), "{all}");
}
