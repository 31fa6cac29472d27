//! Whether media start: the chain from the firmware to the first program, and what boards need.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use common::{Bench, agree_with_schema, demo, fits_schema};
use rstest::rstest;
use serde_json::Value;

/// An executable for UEFI with this machine type, and more content.
fn loader(machine: u16, content: &str) -> Vec<u8> {
    let mut file = b"MZ".to_vec();
    file.resize(0x3c, 0);
    file.extend(0x40_u32.to_le_bytes());
    file.extend(b"PE\0\0");
    file.extend(machine.to_le_bytes());
    file.resize(2048, 0);
    file.extend(content.as_bytes());
    file
}

/// The head of a kernel for x86-64.
fn kernel() -> Vec<u8> {
    let mut file = vec![0; 4096];
    file[0x202..0x206].copy_from_slice(b"HdrS");
    file[0x236] = 1;
    file
}

fn program(machine: u16) -> Vec<u8> {
    let mut file = b"\x7fELF\x02\x01\x01".to_vec();
    file.resize(18, 0);
    file.extend(machine.to_le_bytes());
    file.resize(64, 0);
    file
}

const LAYOUT: &str = "[medium]\nscheme = \"gpt\"\nidentifiers = \"hut\"\n\
    [[partition]]\nsize = \"24MiB\"\ntype = \"esp\"\nfilesystem = \"fat16\"\nlabel = \"EFI\"\n\
    [[partition.content]]\nfrom = \"esp\"\nto = \"/\"\n\
    [[partition]]\nsize = \"rest\"\nfilesystem = \"ext4\"\nlabel = \"hut-root\"\n\
    [[partition.content]]\nfrom = \"root\"\nto = \"/\"\n";

/// A medium that starts on x86-64 by UEFI, and the identifiers of its root.
fn bench() -> (Bench, String, String) {
    let bench = Bench::new();
    for folder in ["esp/EFI/BOOT", "root/boot/grub", "root/sbin", "root/etc"] {
        std::fs::create_dir_all(bench.path(folder)).unwrap();
    }
    bench.write(
        "esp/EFI/BOOT/BOOTX64.EFI",
        loader(0x8664, "Welcome to GRUB!"),
    );
    bench.write("root/boot/vmlinuz", kernel());
    bench.write("root/boot/initrd.img", "made up");
    bench.write("root/sbin/init", program(62));
    bench.write("layout.toml", LAYOUT);
    let build = ["build", "layout.toml", "--to", "hut.img", "--size", "64MiB"];
    bench.run(&build).expect(0);
    let seen = bench
        .run(&["--json", "inspect", "hut.img"])
        .expect(0)
        .json();
    let root = &seen["partitions"][1];
    let word = |value: &Value| value.as_str().unwrap().to_owned();
    let (id, partuuid) = (word(&root["filesystem"]["id"]), word(&root["partuuid"]));
    put(&bench, "1:/EFI/BOOT/grub.cfg", stub(&id));
    put(
        &bench,
        "2:/boot/grub/grub.cfg",
        menu(&format!("root=UUID={id} ro"), true),
    );
    put(
        &bench,
        "2:/etc/fstab",
        format!("UUID={id} / ext4 defaults 0 1\n"),
    );
    (bench, id, partuuid)
}

fn stub(id: &str) -> String {
    format!(
        "search.fs_uuid {id} root\nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n"
    )
}

fn menu(options: &str, has_initrd: bool) -> String {
    let initrd = if has_initrd {
        "  initrd /boot/initrd.img\n"
    } else {
        ""
    };
    format!("set timeout=1\nmenuentry 'Hut' {{\n  linux /boot/vmlinuz {options}\n{initrd}}}\n")
}

fn put(bench: &Bench, place: &str, content: impl AsRef<[u8]>) {
    let file = bench.write("content", content);
    bench
        .run(&[
            "files",
            "put",
            "hut.img",
            place,
            file.to_str().unwrap(),
            "--yes",
        ])
        .expect(0);
}

/// The only way of the medium: its verdict, and its worst fault.
fn followed(bench: &Bench) -> (String, Option<Value>) {
    let seen = bench
        .run(&["--json", "inspect", "hut.img"])
        .expect(0)
        .json();
    let ways = seen["ways"].as_array().unwrap();
    assert_eq!(ways.len(), 1, "{ways:#?}");
    let findings = ways[0]["findings"].as_array().unwrap();
    let fatal = findings
        .iter()
        .find(|one| one["gravity"] == "fatal")
        .cloned();
    let worst = fatal.or_else(|| findings.first().cloned());
    let text = bench.run(&["inspect", "hut.img"]).expect(0).stdout;
    let verdict = ["starts", "does not start", "cannot be told"]
        .into_iter()
        .find(|word| text.contains(&format!("BOOTX64.EFI: {word}")));
    (verdict.unwrap_or("not told").to_owned(), worst)
}

#[test]
fn a_medium_that_starts_is_followed_to_its_first_program() {
    let (bench, ..) = bench();
    assert_eq!(followed(&bench), ("starts".to_owned(), None));
    bench
        .run(&["inspect", "hut.img"])
        .expect(0)
        .shows(&["/boot/vmlinuz, root on partition 2, then /sbin/init"]);
}

#[rstest]
#[case::other_loader(
    "1:/EFI/BOOT/BOOTX64.EFI",
    loader(0xaa64, ""),
    "loader-is-for-other",
    0
)]
#[case::no_loader("1:/EFI/BOOT/BOOTX64.EFI", b"text".to_vec(), "loader-is-for-other", 0)]
#[case::other_id("1:/EFI/BOOT/grub.cfg", stub("77-12").into_bytes(), "filesystem-missing", 3)]
#[case::nothing("1:/EFI/BOOT/grub.cfg", b"set timeout=2\n".to_vec(), "no-entry", 0)]
#[case::no_text("1:/EFI/BOOT/grub.cfg", b"configfile /x.cfg\n".to_vec(), "file-missing", 1)]
#[case::kernel("2:/boot/vmlinuz", b"no kernel".to_vec(), "kernel-is-for-other", 3)]
#[case::root("2:/boot/grub/grub.cfg", menu("root=UUID=77-12", true).into_bytes(), "root-missing", 3)]
#[case::label("2:/boot/grub/grub.cfg", menu("root=LABEL=other", true).into_bytes(), "root-missing", 3)]
#[case::device("2:/boot/grub/grub.cfg", menu("root=/dev/sda7", true).into_bytes(), "root-missing", 3)]
#[case::no_root("2:/boot/grub/grub.cfg", menu("quiet", false).into_bytes(), "no-root", 3)]
#[case::no_initrd("2:/boot/grub/grub.cfg", menu("root=LABEL=hut-root", false).into_bytes(), "root-needs-initrd", 3)]
#[case::init("2:/boot/grub/grub.cfg", menu("root=LABEL=hut-root init=/hut", true).into_bytes(), "no-init", 0)]
#[case::other_init("2:/sbin/init", program(183), "init-is-for-other", 0)]
#[case::mount("2:/etc/fstab", b"# /\nUUID=1-2 /data ext4 defaults 0 2\n".to_vec(), "mount-missing", 2)]
fn what_is_wrong_is_told_with_its_line(
    #[case] place: &str,
    #[case] content: Vec<u8>,
    #[case] fault: &str,
    #[case] line: u64,
) {
    let (bench, ..) = bench();
    put(&bench, place, content);
    let (verdict, worst) = followed(&bench);
    let worst = worst.unwrap();
    assert_eq!(
        (verdict.as_str(), worst["fault"].as_str()),
        ("does not start", Some(fault)),
        "{worst}"
    );
    assert_eq!(worst["at"]["line"], line, "{worst}");
}

#[rstest]
#[case("2:/boot/vmlinuz", "kernel")]
#[case("2:/boot/initrd.img", "initrd")]
fn files_that_are_gone_are_named(#[case] place: &str, #[case] part: &str) {
    let (bench, ..) = bench();
    bench
        .run(&["files", "remove", "hut.img", place, "--yes"])
        .expect(0);
    let (verdict, worst) = followed(&bench);
    let worst = worst.unwrap();
    assert_eq!(verdict, "does not start");
    assert_eq!(
        (&worst["fault"], &worst["part"]),
        (&"file-missing".into(), &part.into())
    );
}

#[test]
fn other_ways_to_name_the_root_are_understood() {
    let (bench, id, partuuid) = bench();
    let kernel_alone = [format!("root=PARTUUID={partuuid}")];
    for options in kernel_alone {
        put(&bench, "2:/boot/grub/grub.cfg", menu(&options, false));
        assert_eq!(followed(&bench), ("starts".to_owned(), None), "{options}");
    }
    for options in [
        format!("root=/dev/disk/by-uuid/{id}"),
        "root=LABEL=hut-root".to_owned(),
    ] {
        put(&bench, "2:/boot/grub/grub.cfg", menu(&options, true));
        assert_eq!(followed(&bench), ("starts".to_owned(), None), "{options}");
    }
    put(
        &bench,
        "2:/boot/grub/grub.cfg",
        menu("root=/dev/mmcblk0p2", false),
    );
    let (verdict, remark) = followed(&bench);
    assert_eq!(
        (verdict.as_str(), &remark.unwrap()["fault"]),
        ("starts", &"root-by-device".into())
    );
    put(
        &bench,
        "2:/etc/fstab",
        "UUID=1-2 /data ext4 defaults,nofail 0 2\n",
    );
    assert_eq!(followed(&bench).0, "starts");
}

/// A medium whose only text is this one, for a loader with this content.
fn with_text(content: &str, place: &str, text: &str) -> Bench {
    let (bench, ..) = bench();
    for gone in ["1:/EFI/BOOT/grub.cfg", "2:/boot/grub/grub.cfg"] {
        bench
            .run(&["files", "remove", "hut.img", gone, "--yes"])
            .expect(0);
    }
    put(&bench, "1:/EFI/BOOT/BOOTX64.EFI", loader(0x8664, content));
    put(&bench, "1:/vmlinuz", kernel());
    put(&bench, "1:/initrd.img", "made up");
    let folder = place.rsplit_once('/').unwrap().0;
    bench
        .run(&["files", "make-folder", "hut.img", folder, "--yes"])
        .expect(0);
    put(&bench, place, text);
    bench
}

const EXTLINUX: &str = "default b\nlabel a\n kernel /x\nlabel b\n linux /vmlinuz\n initrd /initrd.img\n \
    append root=LABEL=hut-root\n";

#[test]
fn boot_entries_are_read() {
    let text = "title Hut\nlinux /vmlinuz\ninitrd /initrd.img\noptions root=LABEL=hut-root\n";
    let manager = "#### LoaderInfo: systemd-boot 252 ####";
    let bench = with_text(manager, "1:/loader/entries/hut.conf", text);
    assert_eq!(followed(&bench), ("starts".to_owned(), None));
}

/// What an unknown loader reads is a guess, right or wrong; a board may have one of its own.
#[test]
fn an_unknown_loader_is_not_vouched_for() {
    let bench = with_text("a loader", "1:/extlinux/extlinux.conf", EXTLINUX);
    let unknown = |bench: &Bench| {
        let (verdict, worst) = followed(bench);
        assert_eq!(verdict, "cannot be told", "{worst:?}");
    };
    unknown(&bench);
    bench
        .run(&["files", "remove", "hut.img", "1:/vmlinuz", "--yes"])
        .expect(0);
    unknown(&bench);
    put(&bench, "1:/vmlinuz", kernel());
    let gone = "1:/EFI/BOOT/BOOTX64.EFI";
    bench
        .run(&["files", "remove", "hut.img", gone, "--yes"])
        .expect(0);
    bench
        .run(&["inspect", "hut.img"])
        .expect(0)
        .shows(&["a loader of the board's own: starts"]);
}

const BOARDS: [&str; 2] = ["boards/brindle-b2.toml", "boards/brindle-b4.toml"];

#[test]
fn a_board_that_does_not_start_says_what_mends_it() {
    let bench = Bench::with_hut();
    let boards = BOARDS.map(|name| demo(name).display().to_string());
    bench
        .run(&["inspect", "hut.img", "--board", &boards[0]])
        .expect(0)
        .shows(&["Brindle B2: starts", "1:/kernel.bin is the first entry"]);
    let run = bench.run(&["inspect", "hut.img", "--board", &boards[1]]);
    run.expect(6).shows(&[
        "Brindle B4: does not start",
        "the table is GPT: it is MBR",
        "pinewrit table convert",
    ]);
    bench
        .run(&["table", "activate", "hut.img", "2", "--yes"])
        .expect(0);
    bench
        .run(&["inspect", "hut.img", "--board", &boards[0]])
        .expect(6)
        .shows(&[
            "partition 1 is active: it is not",
            "pinewrit table activate MEDIUM 1",
        ]);
}

#[test]
fn a_cut_image_is_called_cut() {
    let bench = Bench::with_hut();
    let whole = bench.read("hut.img");
    bench.write("cut.img", &whole[..30_000_000]);
    let board = demo(BOARDS[0]).display().to_string();
    let run = bench.run(&["inspect", "cut.img", "--board", &board]);
    run.expect(6)
        .shows(&["it ends at byte 71 303 168", "it is cut off"]);
}

#[test]
fn what_a_rom_looks_for_is_checked() {
    let bench = Bench::with_hut();
    let text = String::from_utf8(std::fs::read(demo(BOARDS[0])).unwrap()).unwrap();
    let changes = [
        ("6d6164652d7570", "55aa55aa", "the first loader is at"),
        ("at = \"4MiB\"", "at = \"1MiB\"", "partition 1 begins at"),
        (
            "[\"fat16\", \"fat32\"]",
            "\"fat32\"",
            "partition 1 is FAT32: it is FAT16",
        ),
        ("\"32KiB\"", "\"512\"", "clusters of partition 1"),
        (
            "/kernel.bin",
            "/loader.bin",
            "1:/loader.bin exists: it is not",
        ),
        (
            "path = \"/kernel.bin\"",
            "path = \"/READ-ME.txt\"",
            "1:/READ-ME.txt is the first entry: it is kernel.bin",
        ),
        ("largest = \"32GB\"", "largest = \"130MB\"", "a medium from"),
    ];
    for (wanted, other, told) in changes {
        let changed = text.replace(wanted, other);
        assert_ne!(changed, text, "{wanted}");
        bench.write("board.toml", changed);
        let run = bench.run(&[
            "--color",
            "never",
            "inspect",
            "hut.img",
            "--board",
            "board.toml",
        ]);
        let line = run.stdout.lines().find(|line| line.contains(told));
        let line = line.unwrap_or_else(|| panic!("no {told:?} in {}", run.stdout));
        assert!(line.trim_start().starts_with("no "), "{line}");
        run.expect(6);
    }
}

#[test]
fn mistakes_of_a_board_file_are_told_at_once() {
    let bench = Bench::new();
    bench.write(
        "board.toml",
        "architecture = \"z80\"\nsmalest = \"1GB\"\n[[way]]\nscheme = \"apm\"\n\
         [[way.bytes]]\nat = \"here\"\nmagic = \"xyz\"\n[[way.partition]]\nfilesystem = \"ntfs\"\n\
         [[way.partition.file]]\npath = \"boot.bin\"\n",
    );
    let run = bench.run(&["boards", "check", "board.toml"]).expect(7);
    for wrong in [
        "without a name",
        "z80",
        "smalest",
        "apm",
        "without a loader",
        "here",
        "xyz",
        "ntfs",
        "without a number",
    ] {
        assert!(run.stderr.contains(wrong), "no {wrong} in {}", run.stderr);
    }
}

#[test]
fn a_board_is_learned_from_a_medium_that_starts() {
    let bench = Bench::with_hut();
    let learn = [
        "boards",
        "learn",
        "hut.img",
        "--name",
        "Brindle B3",
        "--to",
        "boards/b3.toml",
    ];
    bench.run(&learn).expect(0);
    // Beside the current work it is known by its name.
    bench
        .run(&["boards", "list"])
        .expect(0)
        .shows(&["Brindle B3"]);
    bench
        .run(&["inspect", "hut.img", "--board", "brindle b3"])
        .expect(0)
        .shows(&["Brindle B3: starts"]);
    // It is not overwritten.
    bench.run(&learn).expect(2);
    bench
        .run(&["inspect", "hut.img", "--board", "Brindle B5"])
        .expect(2)
        .says(&["Brindle B3"]);
    // What it learned is looked for.
    put(
        &bench,
        "1:/kernel.bin",
        "another, which is longer than the first".repeat(20_000),
    );
    let changed = bench.run(&["inspect", "hut.img", "--board", "boards/b3.toml"]);
    assert!([0, 6].contains(&changed.code));
    bench
        .run(&["files", "remove", "hut.img", "1:/kernel.bin", "--yes"])
        .expect(0);
    bench
        .run(&["inspect", "hut.img", "--board", "boards/b3.toml"])
        .expect(6);
}

#[test]
fn nothing_is_written_that_the_board_does_not_start_from() {
    let bench = Bench::with_hut();
    let [b2, b4] = BOARDS.map(|name| demo(name).display().to_string());
    let to = ["--to", "card.img", "--size", "200MiB"];
    let write = |more: &[&str]| bench.run(&[&["write", "hut.img"], &to[..], more].concat());
    let refused = write(&["--board", &b4]).expect(6);
    refused.says(&[
        "Brindle B4 does not start from hut.img",
        "nothing was written",
    ]);
    assert!(!bench.path("card.img").exists());
    // The settings may name it.
    bench.write(
        "hut.toml",
        format!(
            "board = \"{b4}\"\nhostname = \"larkfell-03\"\n[[users]]\nname = \"warden\"\n\
             ssh-keys = [\"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAb9MsVG9TcFdPwLXuH/UNdhxHvaT6Psj6JXHyGGtoNp w\"]\n"
        ),
    );
    write(&["--settings", "hut.toml"]).expect(6);
    let done = write(&["--settings", "hut.toml", "--board", &b2]).expect(0);
    done.says(&["Brindle B2: starts, from card.img"]);
    let clone = ["clone", "card.img", "--to", "copy.img", "--size", "200MiB"];
    bench
        .run(&[&clone[..], &["--board", &b4]].concat())
        .expect(6);
    bench
        .run(&[&clone[..], &["--board", &b2]].concat())
        .expect(0);
    let layout = demo("layout.toml").display().to_string();
    let build = [
        "build",
        &layout,
        "--to",
        "built.img",
        "--size",
        "200MiB",
        "--board",
    ];
    bench.run(&[&build[..], &[&b4]].concat()).expect(6);
    assert!(!bench.path("built.img").exists());
    bench.run(&[&build[..], &[&b2]].concat()).expect(0);
}

/// The board's smallest medium is only known when there is one.
#[test]
fn the_finished_medium_is_judged_again() {
    let bench = Bench::with_hut();
    let text = std::fs::read_to_string(demo(BOARDS[0])).unwrap();
    let larger = text.lines().map(|line| match line.split_once('=') {
        Some((key, _)) if key.trim() == "smallest" => "smallest = \"1GB\"\n".to_owned(),
        _ => format!("{line}\n"),
    });
    bench.write("b2.toml", larger.collect::<String>());
    let write = [
        "write",
        "hut.img",
        "--to",
        "card.img",
        "--size",
        "200MiB",
        "--board",
        "./b2.toml",
    ];
    let done = bench.run(&write).expect(6);
    done.says(&["does not start from card.img", "it is written and verified"]);
}

#[test]
fn a_roster_names_its_board() {
    let bench = Bench::with_hut();
    let [b2, b4] = BOARDS.map(|name| demo(name).display().to_string());
    let roster = |board: &str| {
        format!(
            "image = \"hut.img\"\nboard = \"{board}\"\n[[settings.users]]\nname = \"warden\"\n\
             ssh-keys = [\"ssh-ed25519 AAAAC3NzaC1lZDI1NTE5AAAAIAb9MsVG9TcFdPwLXuH/UNdhxHvaT6Psj6JXHyGGtoNp w\"]\n\
             [each]\nhostname = \"{{unit}}\"\n[count]\nunits = 2\nname = \"larkfell-{{n}}\"\n"
        )
    };
    bench.write("huts.toml", roster(&b4));
    let refused = bench.run(&["batch", "huts.toml", "--dry-run"]).expect(7);
    refused.says(&["Brindle B4 does not start from hut.img"]);
    bench
        .run(&["batch", "huts.toml", "--dry-run", "--board", &b2])
        .expect(0);
    bench.write("huts.toml", roster("Brindle B9"));
    bench
        .run(&["batch", "huts.toml", "--dry-run"])
        .expect(7)
        .says(&["no board is called Brindle B9"]);
}

const ALL_KEYS: &str = "name = \"Brindle B9\"\narchitecture = \"riscv64\"\nsmallest = \"1GB\"\n\
    largest = \"64 GB\"\nserial-rate = 1500000\nmemory = \"4GiB\"\n[[way]]\nname = \"by its ROM\"\n\
    media = \"sd\"\nscheme = \"gpt\"\nloader = \"own\"\n[[way.bytes]]\nname = \"a loader\"\n\
    at = \"8192\"\nmagic = \"6d61 6465\"\nmagic-at = \"4\"\nsum = { field = \"12\", length = \"16KiB\", \
    seed = \"0x5f0a6c39\" }\n[[way.partition]]\nnumber = 2\nactive = false\nat = \"4MiB\"\n\
    filesystem = [\"fat16\", \"fat32\"]\nlargest-cluster = \"32KiB\"\nlabel = \"BOOT\"\n\
    [[way.partition.file]]\npath = \"/kernel.bin\"\nfirst = true\nin-one-piece = true\n\
    magic = \"4d5a\"\nlargest = \"8MiB\"\n";

/// What the schema accepts is what the program accepts.
#[test]
fn the_schema_says_what_the_program_says() {
    let bench = Bench::new();
    let is_accepted = |text: &str| {
        bench.write("board.toml", text);
        bench.run(&["boards", "check", "board.toml"]).code == 0
    };
    let demos = BOARDS.map(|name| std::fs::read_to_string(demo(name)).unwrap());
    for text in &demos {
        assert!(is_accepted(text) && fits_schema("board", text), "{text}");
    }
    let wrong = [
        ("name = \"Brindle B9\"\n", ""),
        ("riscv64", "sparc"),
        ("serial-rate = 1500000", "serial-rate = 9"),
        ("memory = \"4GiB\"", "memory = 4"),
        ("scheme = \"gpt\"", "scheme = \"apm\""),
        ("loader = \"own\"\n", ""),
        ("at = \"8192\"\n", ""),
        ("6d61 6465", "6d6"),
        ("0x5f0a6c39", "seed"),
        ("number = 2\n", ""),
        ("number = 2", "number = 0"),
        ("\"fat32\"", "\"ntfs\""),
        ("/kernel.bin", "kernel.bin"),
        ("first = true", "first = \"yes\""),
        ("first = true", "second = true"),
        ("[[way]]", "[[ways]]\n[[way]]"),
    ];
    agree_with_schema("board", ALL_KEYS, &wrong, is_accepted);
}
