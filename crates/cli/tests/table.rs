//! `table` and `format` through the program, judged by strangers.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use common::{Bench, Loop};
use rstest::rstest;

const MIB: u64 = 1 << 20;

fn partition_table(bench: &Bench, name: &str) -> Option<String> {
    let judged = bench.judge("sfdisk", &["--verify", name])?.expect(0);
    assert!(
        !judged
            .stdout
            .contains("remaining unallocated 512-byte sectors: -")
    );
    let dump = bench.judge("sfdisk", &["-d", name])?.expect(0);
    let known = bench
        .judge("partx", &["-go", "NR,START,SECTORS", name])?
        .expect(0);
    Some(format!(
        "{}\n{}",
        dump.stdout.replace(' ', ""),
        known.stdout
    ))
}

#[rstest]
fn tables_and_file_systems_of_all_sizes(
    #[values("mbr", "gpt")] scheme: &str,
    #[values("16MB", "600MB", "8GB", "64GB", "2TB")] size: &str,
) {
    let bench = Bench::new();
    let small = size == "16MB";
    let boot = if small { "4MiB" } else { "64MiB" };
    bench
        .run(&[
            "table", "create", "card.img", "--size", size, "--scheme", scheme,
        ])
        .expect(0);
    bench
        .run(&[
            "table", "add", "card.img", "--type", "fat32", "--size", boot, "--active",
        ])
        .expect(0);
    bench
        .run(&[
            "table", "add", "card.img", "--type", "linux", "--size", "rest",
        ])
        .expect(0);
    bench
        .run(&["format", "card.img", "1", "--as", "fat", "--label", "BOOT"])
        .expect(0);
    bench
        .run(&["format", "card.img", "2", "--as", "ext4", "--label", "root"])
        .expect(0);
    let shown = bench
        .run(&["--json", "table", "show", "card.img"])
        .expect(0)
        .json();
    let found = &shown["after"]["partitions"];
    assert_eq!(found[1]["filesystem"]["kind"], "ext4");
    assert_eq!(found[0]["filesystem"]["label"], "BOOT");
    let Some(table) = partition_table(&bench, "card.img") else {
        return;
    };
    let start = found[1]["start"].as_u64().unwrap();
    assert!(table.contains(&format!("start={}", start / 512)), "{table}");
    let place = format!("card.img?offset={start}");
    bench.judge("e2fsck", &["-fn", &place]).unwrap().expect(0);
    let fat = format!(
        "dd if=card.img of=fat.img bs=1M skip=1 count={} status=none",
        if small { 4 } else { 64 }
    );
    bench.judge("sh", &["-c", &fat]).unwrap().expect(0);
    bench
        .judge("fsck.fat", &["-n", "fat.img"])
        .unwrap()
        .expect(0);
}

/// One after the other: the tags of two equal devices are longer.
#[test]
fn sectors_of_4096_bytes() {
    for scheme in ["mbr", "gpt"] {
        large_sectors(scheme);
    }
}

fn large_sectors(scheme: &str) {
    let bench = Bench::new();
    let path = bench.write("disk.img", []);
    std::fs::File::options()
        .write(true)
        .open(&path)
        .unwrap()
        .set_len(600 * MIB)
        .unwrap();
    let Some(disk) = Loop::over(&path, &["--sector-size", "4096"]) else {
        return;
    };
    let device = disk.path.as_str();
    // A loop device is no card: it has to be named once more.
    let tag = bench.run(&["--json", "media", "--all"]).expect(0).stdout;
    let tag = tag_of(&tag, device);
    let sure = ["--confirm", &tag];
    let run = |args: &[&str]| {
        let all = [args, &sure[..]].concat();
        bench.run(&all).expect(0)
    };
    run(&["table", "create", device, "--scheme", scheme]);
    run(&[
        "table", "add", device, "--type", "fat32", "--size", "300MiB",
    ]);
    run(&["table", "add", device, "--type", "linux", "--size", "rest"]);
    run(&["format", device, "1", "--as", "fat32", "--label", "BOOT"]);
    run(&["format", device, "2", "--as", "ext4"]);
    let Some(judged) = bench.judge("sfdisk", &["-d", device]) else {
        return;
    };
    let dump = judged.expect(0).stdout.replace(' ', "");
    assert!(
        dump.contains("sector-size:4096") && dump.contains("size=76800"),
        "{dump}"
    );
    let place = format!("{device}?offset={}", 301 * MIB);
    bench.judge("e2fsck", &["-fn", &place]).unwrap().expect(0);
}

/// The tag of a device in the listing's JSON.
fn tag_of(listing: &str, device: &str) -> String {
    let lines = listing
        .lines()
        .filter_map(|line| serde_json::from_str(line).ok());
    let mut all = lines.flat_map(|line: serde_json::Value| match &line["media"] {
        serde_json::Value::Array(media) => media.clone(),
        _ => vec![line],
    });
    let found = all.find(|medium| medium["path"] == device);
    found
        .and_then(|medium| medium["tag"].as_str().map(str::to_owned))
        .unwrap_or_default()
}

#[test]
fn the_whole_life_of_a_table() {
    let bench = Bench::new();
    let card = "card.img";
    bench
        .run(&["table", "create", card, "--size", "64MiB"])
        .expect(0)
        .shows(&["empty MBR"]);
    for _ in 0..2 {
        bench
            .run(&["table", "add", card, "--type", "linux", "--size", "8MiB"])
            .expect(0);
    }
    bench
        .run(&[
            "table",
            "add",
            card,
            "--type",
            "linux",
            "--size",
            "4MiB",
            "--logical",
        ])
        .expect(0);
    bench
        .run(&[
            "table",
            "add",
            card,
            "--type",
            "swap",
            "--size",
            "rest",
            "--logical",
        ])
        .expect(0);
    let Some(table) = partition_table(&bench, card) else {
        return;
    };
    assert!(
        table.contains("card.img6:start=") && table.contains("type=82"),
        "{table}"
    );
    bench.run(&["table", "activate", card, "2"]).expect(0);
    bench.run(&["table", "type", card, "1", "fat32"]).expect(0);
    let table = partition_table(&bench, card).unwrap();
    assert!(
        table.contains("type=c") && table.contains("bootable"),
        "{table}"
    );
    bench
        .run(&["table", "remove", card, "6", "--yes"])
        .expect(0);
    bench
        .run(&["table", "resize", card, "5", "--size", "8MiB"])
        .expect(0);
    partition_table(&bench, card).unwrap();
    bench
        .run(&["table", "convert", card, "--scheme", "gpt"])
        .expect(0)
        .shows(&["GPT"]);
    bench.run(&["table", "name", card, "3", "data"]).expect(0);
    let table = partition_table(&bench, card).unwrap();
    assert!(
        table.contains("label:gpt") && table.contains("name=\"data\""),
        "{table}"
    );
    bench
        .run(&["table", "convert", card, "--scheme", "mbr"])
        .expect(0);
    partition_table(&bench, card).unwrap();
    bench.run(&["table", "wipe", card, "--yes"]).expect(0);
    let found = bench.judge("wipefs", &["-n", card]).unwrap().expect(0);
    assert_eq!(
        found
            .stdout
            .lines()
            .filter(|line| !line.contains("dos"))
            .count(),
        1,
        "{}",
        found.stdout
    );
}

#[test]
fn a_dry_run_changes_nothing_and_a_second_time_neither() {
    let bench = Bench::new();
    let card = "card.img";
    bench
        .run(&[
            "table", "create", card, "--size", "64MiB", "--scheme", "gpt",
        ])
        .expect(0);
    let before = bench.read(card);
    bench
        .run(&[
            "table",
            "add",
            card,
            "--type",
            "linux",
            "--size",
            "8MiB",
            "--dry-run",
        ])
        .expect(0)
        .shows(&["nothing was changed", "8.39"]);
    assert!(bench.read(card) == before);
    bench
        .run(&["table", "add", card, "--type", "linux", "--size", "8MiB"])
        .expect(0);
    bench.run(&["table", "activate", card, "1"]).expect(0);
    bench
        .run(&["table", "activate", card, "1"])
        .expect(0)
        .shows(&["nothing to change"]);
    let before = bench.read(card);
    bench
        .run(&["format", card, "1", "--as", "ext4", "--dry-run"])
        .expect(0)
        .shows(&["would become ext4"]);
    assert!(bench.read(card) == before);
}

#[rstest]
#[case::no_room(&["table", "add", "card.img", "--type", "linux", "--size", "1GB"], 2, &["no room", "largest"])]
#[case::no_such(&["table", "remove", "card.img", "7"], 2, &["no partition 7", "1 (BOOT)"])]
#[case::type_(&["table", "type", "card.img", "1", "linus"], 2, &["not a partition type", "linux"])]
#[case::taken(&["table", "add", "card.img", "--type", "linux", "--size", "1MiB", "--start", "2MiB"], 2, &["not free"])]
#[case::long_label(&["format", "card.img", "1", "--as", "fat16", "--label", "MUCH-TOO-LONG", "--yes"], 2, &["13 bytes; at most 11"])]
#[case::small(&["format", "card.img", "1", "--as", "fat32", "--yes"], 2, &["FAT32 cannot have"])]
#[case::nobody_to_ask(&["format", "card.img", "1", "--as", "ext4"], 3, &["nobody to ask", "--yes"])]
#[case::wipe_asks(&["table", "wipe", "card.img"], 3, &["nobody to ask"])]
#[case::cut(&["table", "resize", "card.img", "1", "--size", "4MiB"], 3, &["would lose its end"])]
#[case::word(&["format", "card.img", "1", "--as", "ext5"], 2, &["fat32", "ext4"])]
fn mistakes_change_nothing(#[case] args: &[&str], #[case] code: i32, #[case] says: &[&str]) {
    let bench = Bench::new();
    bench
        .run(&["table", "create", "card.img", "--size", "64MiB"])
        .expect(0);
    bench
        .run(&[
            "table", "add", "card.img", "--type", "fat16", "--size", "16MiB",
        ])
        .expect(0);
    bench
        .run(&[
            "format", "card.img", "1", "--as", "fat16", "--label", "BOOT",
        ])
        .expect(0);
    let before = bench.read("card.img");
    bench.run(args).expect(code).says(says);
    assert!(bench.read("card.img") == before);
}

#[test]
fn what_stands_in_the_way_of_a_gpt_is_told() {
    let bench = Bench::new();
    bench
        .run(&["table", "create", "card.img", "--size", "64MiB"])
        .expect(0);
    let add = [
        "table", "add", "card.img", "--type", "linux", "--size", "8MiB", "--start", "8KiB",
    ];
    bench.run(&add).expect(0);
    bench
        .run(&["table", "convert", "card.img", "--scheme", "gpt"])
        .expect(2)
        .says(&["partition 1 starts at byte 8192", "nothing was changed"]);
}

#[rstest]
fn new_identifiers_and_all_that_name_them(#[values("mbr", "gpt")] scheme: &str) {
    let bench = Bench::new();
    let card = "card.img";
    bench
        .run(&[
            "table", "create", card, "--size", "200MiB", "--scheme", scheme,
        ])
        .expect(0);
    for (kind, size) in [("fat32", "64MiB"), ("linux", "64MiB"), ("swap", "rest")] {
        bench
            .run(&["table", "add", card, "--type", kind, "--size", size])
            .expect(0);
    }
    for (number, kind) in [("1", "fat32"), ("2", "ext4"), ("3", "swap")] {
        bench.run(&["format", card, number, "--as", kind]).expect(0);
    }
    let ids = |bench: &Bench| -> Option<Vec<String>> {
        let mut all = Vec::new();
        for offset in [1, 65, 129] {
            let offset = (offset * MIB).to_string();
            let said = bench
                .judge("blkid", &["-p", "-O", &offset, "-o", "export", card])?
                .expect(0);
            let uuid = said
                .stdout
                .lines()
                .find_map(|line| line.strip_prefix("UUID="));
            all.push(uuid.unwrap().replace('\\', ""));
        }
        let dump = bench.judge("sfdisk", &["-d", card])?.expect(0).stdout;
        let disk = dump
            .lines()
            .find_map(|line| line.strip_prefix("label-id: "))
            .unwrap();
        all.push(disk.trim_start_matches("0x").to_lowercase());
        if dump.contains("uuid=") {
            let own = dump.split("uuid=").nth(2).unwrap();
            all.push(own[..36].to_lowercase());
        }
        Some(all)
    };
    let Some(before) = ids(&bench) else {
        return;
    };
    let part = match scheme {
        "mbr" => format!("{}-02", before[3]),
        _ => before[4].clone(),
    };
    bench.write("cmdline.txt", format!("root=PARTUUID={part} quiet\n"));
    bench.write(
        "fstab",
        format!(
            "UUID={} / ext4\nUUID={} /boot vfat\nUUID={} none swap\n",
            before[1], before[0], before[2]
        ),
    );
    let fill = "dd if=card.img of=fat bs=1M skip=1 count=64 status=none; mcopy -i fat cmdline.txt ::/cmdline.txt; \
        dd if=fat of=card.img bs=1M seek=1 conv=notrunc status=none; \
        printf 'mkdir etc\\ncd etc\\nwrite fstab fstab\\n' | debugfs -w 'card.img?offset=68157440'";
    bench.judge("sh", &["-c", fill]).unwrap().expect(0);
    bench.run(&["table", "renew", card]).expect(0).shows(&[
        "/cmdline.txt on partition 1, once",
        "/etc/fstab on partition 2, 3 times",
    ]);
    let after = ids(&bench).unwrap();
    assert!(
        before.iter().zip(&after).all(|(old, new)| old != new),
        "{before:?} {after:?}"
    );
    bench
        .judge("e2fsck", &["-fn", "card.img?offset=68157440"])
        .unwrap()
        .expect(0);
    let read = "dd if=card.img of=fat bs=1M skip=1 count=64 status=none; fsck.fat -n fat >&2 && mtype -i fat ::/cmdline.txt; \
        debugfs -R 'cat /etc/fstab' 'card.img?offset=68157440'";
    let said = bench.judge("sh", &["-c", read]).unwrap().expect(0).stdout;
    let part = match scheme {
        "mbr" => format!("{}-02", after[3]),
        _ => after[4].clone(),
    };
    let expected = format!(
        "root=PARTUUID={part} quiet\nUUID={} / ext4\nUUID={} /boot vfat\nUUID={} none swap\n",
        after[1], after[0], after[2]
    );
    assert_eq!(said, expected);
}

#[test]
fn nothing_of_a_gpt_is_left_beside_a_new_mbr() {
    let bench = Bench::new();
    let create = ["table", "create", "card.img", "--yes", "--scheme"];
    bench
        .run(&[&create[..], &["gpt", "--size", "64MiB"]].concat())
        .expect(0);
    bench
        .run(&[
            "table", "add", "card.img", "--type", "linux", "--size", "8MiB",
        ])
        .expect(0);
    bench
        .run(&[&create[..], &["mbr"]].concat())
        .expect(0)
        .shows(&["empty MBR"]);
    let bytes = bench.read("card.img");
    assert!(!bytes.windows(8).any(|window| window == b"EFI PART"));
}
