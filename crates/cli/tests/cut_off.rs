//! Cards that were pulled from a running board: read, changed and copied as if their systems had
//! been shut down.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::process::Stdio;
use std::time::Duration;

use common::Bench;
use pinewrit_judges::needs;
use rstest::rstest;

/// A card whose root was copied while the kernel was using it: with the journal full, and a file open that
/// has no name any more. `None` where nothing can be mounted.
fn pulled() -> Option<Bench> {
    let bench = Bench::new();
    let script = "set -e
        truncate -s 40M root.img
        mkfs.ext4 -q -O ^orphan_file root.img
        mkdir m
        mount -o loop,commit=1 root.img m || exit 7
        trap 'umount m' EXIT
        mkdir m/etc
        echo larkfell-03 > m/etc/hostname
        sync
        exec 9> m/gone
        head -c 300000 /dev/zero >&9
        rm m/gone
        for number in $(seq 40); do echo $number > m/etc/reading-$number; done
        sync
        cp root.img pulled.img
        exec 9>&-
        truncate -s 60M card.img
        printf 'label: dos\\nstart=2048, size=81920, type=83\\n' | sfdisk -q card.img
        dd if=pulled.img of=card.img bs=1M seek=1 conv=notrunc status=none";
    let done = bench.judge("sh", &["-c", script])?;
    if done.code == 7 {
        pinewrit_judges::say_skipped("nothing can be mounted");
        return None;
    }
    done.expect(0);
    Some(bench)
}

/// The root file system of an image by itself.
fn root_of(bench: &Bench, image: &str) -> String {
    let script = format!("dd if={image} of={image}.root bs=1M skip=1 status=none");
    bench.judge("sh", &["-c", &script]).unwrap().expect(0);
    format!("{image}.root")
}

fn is_clean(bench: &Bench, image: &str) {
    let root = root_of(bench, image);
    let run = bench.judge("e2fsck", &["-fn", &root]).unwrap();
    assert_eq!(run.code, 0, "{}", run.stdout);
}

/// The journal's first block.
fn journal_block(bench: &Bench) -> usize {
    let root = root_of(bench, "card.img");
    let run = bench.judge("debugfs", &["-R", "blocks <8>", &root]);
    let blocks = run.unwrap().stdout;
    blocks.split_whitespace().next().unwrap().parse().unwrap()
}

/// Bytes of a block, from the superblock of the first partition.
fn block_size(card: &[u8]) -> usize {
    1024 << card[(1 << 20) + 1024 + 24]
}

#[test]
fn it_is_read_as_it_will_be() {
    needs!("mkfs.ext4", "mount", "umount", "sfdisk", "e2fsck");
    let Some(bench) = pulled() else { return };
    let before = bench.read("card.img");
    bench
        .run(&["files", "list", "card.img", "root:/etc"])
        .expect(0)
        .shows(&["hostname", "reading-40"]);
    bench
        .run(&["files", "read", "card.img", "root:/etc/reading-40"])
        .expect(0)
        .shows(&["40"]);
    assert!(bench.read("card.img") == before);
}

#[test]
fn a_change_finishes_it_first_and_says_so() {
    needs!("mkfs.ext4", "mount", "umount", "sfdisk", "e2fsck");
    let Some(bench) = pulled() else { return };
    let before = bench.read("card.img");
    bench.write("note.txt", "snow 0.4\n");
    let put = ["files", "put", "card.img", "root:/etc/note.txt", "note.txt"];
    bench
        .run(&[&put[..], &["--dry-run"]].concat())
        .expect(0)
        .says(&[
            "was not unmounted; would be done first",
            "1 file without a name",
        ]);
    assert!(bench.read("card.img") == before);
    let run = bench
        .run(&[&["--json"], &put[..]].concat())
        .expect(0)
        .described();
    assert!(
        run.stdout.contains("\"event\":\"recovered\""),
        "{}",
        run.stdout
    );
    assert!(run.stdout.contains("\"removed_files\":1"), "{}", run.stdout);
    is_clean(&bench, "card.img");
    for (file, text) in [("note.txt", "snow 0.4\n"), ("reading-17", "17\n")] {
        let read = bench.run(&["files", "read", "card.img", &format!("root:/etc/{file}")]);
        assert_eq!(read.stdout, text);
    }
    // The next change has nothing to finish.
    let again = bench.run(&["files", "remove", "card.img", "root:/etc/note.txt", "--yes"]);
    assert!(!again.expect(0).stderr.contains("was not unmounted"));
}

/// A card that already has accounts is configured anew, and finished with the same change.
#[rstest]
#[case::plain("")]
#[case::grown("grow-root = true\n")]
fn settings_are_put_on_it(#[case] more: &str) {
    needs!("mount", "umount", "e2fsck");
    let bench = Bench::with_hut();
    let place = bench
        .read("hut.img")
        .windows(16)
        .position(|at| at == b"larkfell-root\0\0\0");
    let start = place.unwrap() - 1024 - 0x78;
    let script = format!(
        "set -e
        mkdir m
        mount -o loop,commit=1,offset={start} hut.img m || exit 7
        trap 'umount m' EXIT
        for number in $(seq 40); do echo $number > m/var/reading-$number; done
        sync
        cp hut.img card.img"
    );
    let run = bench.judge("sh", &["-c", &script]).unwrap();
    if run.code == 7 {
        pinewrit_judges::say_skipped("nothing can be mounted");
        return;
    }
    run.expect(0);
    let key = std::fs::read_to_string(common::demo("hut-03.toml")).unwrap();
    let key = key
        .lines()
        .find(|line| line.contains("ssh-ed25519"))
        .unwrap();
    let user = format!("[[users]]\nname = \"warden\"\n{key}\n");
    let text = format!("hostname = \"larkfell-09\"\n{more}{user}");
    bench.write("settings.toml", text);
    let settings = ["--settings", "settings.toml", "--intake", "rootfs"];
    bench
        .run(&[&["configure", "card.img", "--yes"], &settings[..]].concat())
        .expect(0)
        .says(&["was not unmounted; done first"]);
    let read = |place: &str| bench.run(&["files", "read", "card.img", place]).stdout;
    assert_eq!(read("root:/etc/hostname"), "larkfell-09\n");
    assert_eq!(read("root:/var/reading-17"), "17\n");
    bench.run(&["check", "card.img"]).expect(0);
}

#[test]
fn copies_are_finished_and_exact_ones_are_as_it_was() {
    needs!("mkfs.ext4", "mount", "umount", "sfdisk", "e2fsck");
    let Some(bench) = pulled() else { return };
    let before = bench.read("card.img");
    bench
        .run(&[
            "clone", "card.img", "--to", "copy.img", "--size", "80MiB", "--grow",
        ])
        .expect(0)
        .says(&["finished", "of its journal applied"]);
    is_clean(&bench, "copy.img");
    bench
        .run(&[
            "save", "card.img", "--to", "gold.img", "--shrink", "--spare", "1MiB",
        ])
        .expect(0)
        .says(&["of its journal applied", "smaller"]);
    is_clean(&bench, "gold.img");
    let exact = ["clone", "card.img", "--to", "exact.img", "--size", "60MiB"];
    bench
        .run(&[&exact[..], &["--keep-identifiers"]].concat())
        .expect(0);
    assert!(bench.read("exact.img") == before);
    assert!(bench.read("card.img") == before);
}

/// What changes the file system as a whole finishes it, too.
#[rstest]
#[case::renew(&["table", "renew", "card.img", "--yes"])]
#[case::smaller(&["table", "resize", "card.img", "1", "--size", "30MiB", "--with-filesystem"])]
#[case::larger(&["table", "resize", "card.img", "1", "--size", "rest", "--with-filesystem"])]
fn the_whole_file_system_is_changed(#[case] args: &[&str]) {
    needs!("mkfs.ext4", "mount", "umount", "sfdisk", "e2fsck");
    let Some(bench) = pulled() else { return };
    bench.run(args).expect(0).says(&["was not unmounted"]);
    is_clean(&bench, "card.img");
    let read = bench.run(&["files", "read", "card.img", "root:/etc/reading-17"]);
    assert_eq!(read.stdout, "17\n");
}

#[test]
fn check_says_how_it_is_and_settles_it() {
    needs!("mkfs.ext4", "mount", "umount", "sfdisk", "e2fsck");
    let Some(bench) = pulled() else { return };
    let before = bench.read("card.img");
    bench.run(&["check", "card.img"]).expect(6).says(&[
        "was pulled while it was in use",
        "of its journal to apply, 1 file without a name to remove",
        "pinewrit check card.img --settle",
    ]);
    bench
        .run(&["check", "card.img", "--settle", "--dry-run"])
        .expect(6);
    assert!(bench.read("card.img") == before);
    let settled = bench.run(&["--json", "check", "card.img", "--settle"]);
    let settled = settled.expect(0).described();
    assert!(settled.stdout.contains("\"cut-off\""), "{}", settled.stdout);
    is_clean(&bench, "card.img");
    bench
        .run(&["check", "card.img"])
        .expect(0)
        .shows(&["sound:", "ext4: sound"]);
}

/// An image of a card that was cut off is finished when more is done than writing it.
#[test]
fn an_image_that_was_cut_off_is_written_larger() {
    needs!("mkfs.ext4", "mount", "umount", "sfdisk", "e2fsck");
    let Some(bench) = pulled() else { return };
    bench
        .run(&[
            "write", "card.img", "--to", "new.img", "--size", "80MiB", "--grow",
        ])
        .expect(0)
        .shows(&[
            "finished",
            "of its journal applied, 1 file without a name removed",
        ]);
    is_clean(&bench, "new.img");
    let read = bench.run(&["files", "read", "new.img", "root:/etc/reading-17"]);
    assert_eq!(read.stdout, "17\n");
}

#[test]
fn check_says_when_there_is_nothing_to_check() {
    let bench = Bench::new();
    bench.write("card.img", vec![0; 4 << 20]);
    bench
        .run(&["check", "card.img"])
        .expect(0)
        .shows(&["has no FAT or ext file system: nothing was checked"]);
}

/// A FAT is settled if it is sound otherwise; clusters that belong to nothing only if that is wanted.
#[test]
fn check_clears_the_mark_of_a_fat() {
    needs!("mkfs.fat", "fsck.fat", "mcopy");
    let bench = Bench::new();
    let script = "set -e; truncate -s 20M card.img; mkfs.fat -F 16 card.img; seq 4000 > log
        mcopy -i card.img log ::/log; mcopy -i card.img log ::/again";
    bench.judge("sh", &["-c", script]).unwrap().expect(0);
    let mut card = bench.read("card.img");
    // `BS_Reserved1`, and the upper bits of the second entry of both tables.
    card[37] |= 1;
    let sector = usize::from(u16::from_le_bytes([card[11], card[12]]));
    let reserved = usize::from(u16::from_le_bytes([card[14], card[15]]));
    let table = usize::from(u16::from_le_bytes([card[22], card[23]]));
    let tables = [reserved, reserved + table].map(|start| start * sector);
    for start in tables {
        card[start + 3] &= 0x7f;
    }
    bench.write("card.img", &card);
    bench
        .run(&["check", "card.img"])
        .expect(6)
        .says(&["marked as in use, and sound otherwise"]);
    bench.run(&["check", "card.img", "--settle"]).expect(0);
    let judged = || bench.judge("fsck.fat", &["-n", "card.img"]).unwrap();
    let run = judged().expect(0);
    assert!(!run.stdout.contains("Dirty"), "{}", run.stdout);
    // A chain that nothing leads to.
    let mut card = bench.read("card.img");
    for start in tables {
        card[start + 2 * 5000..start + 2 * 5000 + 4].copy_from_slice(&[0x89, 0x13, 0xff, 0xff]);
    }
    bench.write("card.img", &card);
    let settle = ["check", "card.img", "--settle"];
    bench
        .run(&settle)
        .expect(6)
        .says(&["2 clusters in use by no file", "--free-lost"]);
    assert!(bench.read("card.img") == card);
    bench
        .run(&[&settle[..], &["--free-lost"]].concat())
        .expect(0)
        .shows(&["is settled", "2 clusters in use by no file; freed"]);
    judged().expect(0);
    bench.run(&["check", "card.img"]).expect(0);
}

/// A file system without a journal is marked while it is in use; one with errors keeps its mark.
#[rstest]
#[case::in_use(0, "marked as in use, and sound otherwise", 0)]
#[case::errors(3, "says that it has errors; no fault was found", 6)]
fn check_knows_the_marks_of_ext2(#[case] state: u8, #[case] said: &str, #[case] settled: i32) {
    needs!("mkfs.ext4", "e2fsck", "debugfs");
    let bench = Bench::new();
    let script = format!(
        "truncate -s 20M card.img; mkfs.ext4 -q -t ext2 card.img; \
         debugfs -w -R 'ssv state {state}' card.img"
    );
    bench.judge("sh", &["-c", &script]).unwrap().expect(0);
    bench.run(&["check", "card.img"]).expect(6).says(&[said]);
    bench
        .run(&["check", "card.img", "--settle"])
        .expect(settled);
    bench.run(&["check", "card.img"]).expect(settled);
    let judged = bench.judge("e2fsck", &["-n", "card.img"]).unwrap();
    assert_eq!(
        judged.stdout.contains("clean"),
        settled == 0,
        "{}",
        judged.stdout
    );
}

/// A sound file system that says it has errors is changed if that is wanted, and goes on saying it.
#[rstest]
#[case::files(&["files", "put", "card.img", "1:/note.txt", "note.txt"], 5)]
#[case::identifiers(&["table", "renew", "card.img", "--yes"], 0)]
#[case::smaller(&["table", "resize", "card.img", "1", "--size", "16MiB", "--with-filesystem"], 3)]
#[case::larger(&["table", "resize", "card.img", "1", "--size", "rest", "--with-filesystem"], 3)]
fn a_flag_of_errors_is_respected_and_kept(#[case] change: &[&str], #[case] code: i32) {
    needs!("mkfs.ext4", "e2fsck", "debugfs", "sfdisk");
    let bench = Bench::new();
    let script = "set -e; truncate -s 20M root.img; mkfs.ext4 -q root.img
        debugfs -w -R 'ssv state 3' root.img; truncate -s 30M card.img
        printf 'label: dos\nstart=2048, size=40960, type=83\n' | sfdisk -q card.img
        dd if=root.img of=card.img bs=1M seek=1 conv=notrunc status=none";
    bench.judge("sh", &["-c", script]).unwrap().expect(0);
    bench.write("note.txt", "snow 0.4\n");
    let before = bench.read("card.img");
    let run = bench.run(change).expect(code);
    if code == 0 {
        run.shows(&["kept      that of the file system in partition 1"]);
    } else {
        assert!(bench.read("card.img") == before);
    }
    let despite = [change, &["--despite-flag"]].concat();
    let run = bench.run(&despite).expect(0);
    assert!(!run.stdout.contains("kept"), "{}", run.stdout);
    let root = root_of(&bench, "card.img");
    let state = bench.judge("debugfs", &["-R", "stats -h", &root]).unwrap();
    assert!(state.stdout.contains("with errors"), "{}", state.stdout);
    let judged = bench.judge("e2fsck", &["-fn", &root]).unwrap();
    assert_eq!(judged.code, 0, "{}", judged.stdout);
    bench
        .run(&["check", "card.img"])
        .expect(6)
        .says(&["says that it has errors; no fault was found"]);
    // What has a fault as well is not changed.
    let mut card = bench.read("card.img");
    let size = block_size(&card);
    let descriptors = (1 << 20) + if size == 1024 { 2048 } else { size };
    let place = u32::from_le_bytes(card[descriptors..descriptors + 4].try_into().unwrap());
    card[(1 << 20) + place as usize * size + 300] ^= 0xff;
    bench.write("card.img", &card);
    let run = bench.run(&despite);
    if code == 0 {
        run.expect(0).shows(&["kept"]);
    } else {
        assert_ne!(run.code, 0);
        assert!(bench.read("card.img") == card);
    }
}

/// Damage is told and left alone.
#[test]
fn check_leaves_damage_alone() {
    needs!("mkfs.ext4");
    let bench = Bench::new();
    let script = "truncate -s 20M card.img; mkfs.ext4 -q -b 4096 card.img";
    bench.judge("sh", &["-c", script]).unwrap().expect(0);
    let mut card = bench.read("card.img");
    // The bitmap of blocks of the only group.
    let place = u32::from_le_bytes(card[4096..4100].try_into().unwrap()) as usize;
    card[place * 4096 + 300] ^= 0xff;
    bench.write("card.img", &card);
    for args in [
        &["check", "card.img"][..],
        &["check", "card.img", "--settle"],
    ] {
        bench.run(args).expect(6).says(&["is damaged", "e2fsck"]);
    }
    assert!(bench.read("card.img") == card);
}

/// A reader that holds the card.
fn rack(bench: &Bench, more: &str) {
    let text = format!(
        "[[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n\
         [[cards]]\nname = \"card\"\nfile = \"card.img\"\nsize = \"60MiB\"\nmaker = \"Larch\"\n\
         model = \"Needle\"\nserial = \"1\"\n{more}"
    );
    bench.write("rack.toml", text);
}

const SETTLE: [&str; 6] = [
    "--rack",
    "rack.toml",
    "check",
    "rack:slot",
    "--settle",
    "--yes",
];

/// Killed where it writes the superblock, the descriptors or the journal's head: the next command puts it
/// back or finishes it, and never finds half of it.
#[rstest]
#[case::superblock(1)]
#[case::descriptors(2)]
#[case::journal(3)]
fn a_killed_commit_is_never_half_a_replay(#[case] place: usize) {
    needs!(
        "mkfs.ext4",
        "mount",
        "umount",
        "sfdisk",
        "e2fsck",
        "debugfs"
    );
    let Some(bench) = pulled() else { return };
    let first = journal_block(&bench);
    let size = block_size(&bench.read("card.img"));
    let inside = [0, 1024, if size > 1024 { size } else { 2048 }, first * size][place];
    rack(
        &bench,
        &format!(
            "faults = [{{ kind = \"stuck-write\", at = {}, ms = 60000 }}]\n",
            (1 << 20) + inside
        ),
    );
    let mut child = bench
        .command(&SETTLE)
        .stdout(Stdio::null())
        .spawn()
        .unwrap();
    std::thread::sleep(Duration::from_millis(1500));
    assert!(
        child.try_wait().unwrap().is_none(),
        "it has never written there"
    );
    child.kill().unwrap();
    child.wait().unwrap();
    rack(&bench, "");
    bench.run(&SETTLE).expect(0);
    is_clean(&bench, "card.img");
    bench
        .run(&["files", "list", "card.img", "root:/etc"])
        .expect(0)
        .shows(&["reading-40"]);
}

/// Killed at any moment, also while the next command takes it back; `PINEWRIT_KILLS` for more.
#[test]
fn killed_at_any_moment_it_is_whole_or_as_it_was() {
    needs!("mkfs.ext4", "mount", "umount", "sfdisk", "e2fsck");
    let Some(bench) = pulled() else { return };
    let pulled = bench.read("card.img");
    let kills = std::env::var("PINEWRIT_KILLS").map_or(6, |count| count.parse().unwrap());
    let (mut seed, mut cut) = (7_u64, 0);
    for kill in 0..kills {
        bench.write("card.img", &pulled);
        rack(&bench, "write-speed = \"400kB/s\"\nlatency-ms = 4\n");
        for _ in 0..2 {
            seed = seed.wrapping_mul(6_364_136_223_846_793_005).wrapping_add(1);
            let mut command = bench.command(&SETTLE);
            command.stdout(Stdio::null()).stderr(Stdio::null());
            let mut child = command.spawn().unwrap();
            std::thread::sleep(Duration::from_millis((seed >> 33) % 1500));
            cut += u32::from(child.try_wait().unwrap().is_none());
            child.kill().unwrap();
            child.wait().unwrap();
        }
        rack(&bench, "");
        // Whatever comes next puts it back or finishes it.
        let list = [
            "--rack",
            "rack.toml",
            "files",
            "make-folder",
            "rack:slot",
            "root:/var",
        ];
        bench.run(&[&list[..], &["--yes"]].concat()).expect(0);
        is_clean(&bench, "card.img");
        for number in [1, 17, 40] {
            let place = format!("root:/etc/reading-{number}");
            let read = bench.run(&["files", "read", "card.img", &place]);
            assert_eq!(read.stdout, format!("{number}\n"), "kill {kill}");
        }
    }
    assert!(cut > 0, "every run was faster");
}

/// What cannot be replayed is refused by name, and nothing is changed.
#[rstest]
#[case::its_head(0, "its superblock is damaged")]
#[case::features(40, "unknown features")]
fn a_damaged_journal_is_refused(#[case] field: usize, #[case] said: &str) {
    needs!("mkfs.ext4", "mount", "umount", "sfdisk", "debugfs");
    let Some(bench) = pulled() else { return };
    let first = journal_block(&bench);
    let mut card = bench.read("card.img");
    let size = block_size(&card);
    card[(1 << 20) + first * size + field] ^= 0x40;
    bench.write("card.img", &card);
    bench.write("note.txt", "snow 0.4\n");
    bench
        .run(&["files", "put", "card.img", "root:/etc/note.txt", "note.txt"])
        .expect(5)
        .says(&["cannot be replayed", said, "nothing was changed"]);
    assert!(bench.read("card.img") == card);
}
