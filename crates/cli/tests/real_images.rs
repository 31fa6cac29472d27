//! Real hybrid images in strangers' wrappings, to card files and to block devices, and what the
//! system's own tools say of them.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::fs;

use common::{Bench, Loop, has_file};
use rstest::rstest;
use serde_json::Value;

const MEMTEST: &str = "/usr/lib/memtest86+/memtest86+x64.iso";
const RESCUE: &str = "/usr/lib/grub-rescue/grub-rescue-cdrom.iso";

/// Packs `image` in the bench by a stranger's tool; `false` if it is missing.
fn pack(bench: &Bench, image: &str, tool: &str) -> bool {
    if !has_file(image) {
        return false;
    }
    fs::copy(image, bench.path("real.iso")).unwrap();
    let args: &[&str] = match tool {
        "zstd" => &["-q", "-k", "real.iso"],
        "lz4" => &["-q", "-k", "real.iso", "real.iso.lz4"],
        "lzma" => &["--format=lzma", "-k", "real.iso"],
        _ => &["-k", "real.iso"],
    };
    bench.judge(tool, args).is_some_and(|run| run.code == 0)
}

fn ending(tool: &str) -> &str {
    match tool {
        "gzip" => "gz",
        "zstd" => "zst",
        "bzip2" => "bz2",
        other => other,
    }
}

#[rstest]
fn real_images_to_card_files(
    #[values(MEMTEST, RESCUE)] image: &str,
    #[values("xz", "gzip", "zstd", "bzip2", "lz4", "lzma")] tool: &str,
) {
    let bench = Bench::new();
    if !pack(&bench, image, tool) {
        return;
    }
    let packed = format!("real.iso.{}", ending(tool));
    bench
        .run(&[
            "write", &packed, "--to", "card.img", "--size", "64MB", "--yes",
        ])
        .expect(0);
    let image = fs::read(image).unwrap();
    assert!(bench.read("card.img")[..image.len()] == image);
    bench
        .run(&["verify", "card.img", "--image", "real.iso"])
        .expect(0);
}

#[rstest]
fn real_images_to_block_devices(
    #[values(MEMTEST, RESCUE)] image: &str,
    #[values("xz", "gzip", "zstd")] tool: &str,
    #[values("512", "4096")] sector: &str,
    #[values(&["--every-byte"][..], &[])] options: &[&str],
) {
    let bench = Bench::new();
    if !pack(&bench, image, tool) {
        return;
    }
    let behind = bench.write("behind.img", vec![0xaa; 32 << 20]);
    let Some(device) = Loop::over(&behind, &["--sector-size", sector]) else {
        return;
    };
    let packed = format!("real.iso.{}", ending(tool));
    let args = [
        "write",
        &packed,
        "--to",
        &device.path,
        "--yes",
        "--as-it-is",
    ];
    if sector == "4096" {
        // The table of most counts other sectors; ISO 9660 alone counts its own.
        let run = bench.run(&args[..5]);
        assert!(run.code == 0 || run.code == 3, "{}", run.stderr);
    }
    let run = bench.run(&[&args[..], options].concat()).expect(0);
    assert!(run.stdout.contains("then remove it"), "{}", run.stdout);
    let image = fs::read(image).unwrap();
    // Read independently: by another program, through the device. Nothing of a hybrid image is
    // taken for free, so that it is the same without the option.
    let cmp = ["-n", &image.len().to_string(), "real.iso", &device.path];
    assert_eq!(bench.judge("cmp", &cmp).unwrap().code, 0);
}

/// Number, start and size in sectors, type and active flag of each partition.
type Rows = Vec<(u64, u64, u64, String, bool)>;

fn rows_of_inspect(json: &Value) -> Rows {
    let row = |p: &Value| {
        (
            p["number"].as_u64().unwrap(),
            p["start"].as_u64().unwrap() / 512,
            p["size"].as_u64().unwrap() / 512,
            p["code"].as_str().unwrap().to_lowercase(),
            p["active"].as_bool().unwrap(),
        )
    };
    json["partitions"]
        .as_array()
        .unwrap()
        .iter()
        .map(row)
        .collect()
}

fn rows_of_partx(bench: &Bench, file: &str) -> Option<Rows> {
    let args = ["-g", "-o", "NR,START,SECTORS,TYPE,FLAGS", "--show", file];
    let listed = bench.judge("partx", &args)?.expect(0).stdout;
    let row = |line: &str| {
        let fields: Vec<_> = line.split_whitespace().collect();
        let code = fields[3].trim_start_matches("0x").to_lowercase();
        (
            fields[0].parse().unwrap(),
            fields[1].parse().unwrap(),
            fields[2].parse().unwrap(),
            if code.len() < 2 {
                format!("0{code}")
            } else {
                code
            },
            fields[4] == "0x80",
        )
    };
    Some(listed.lines().map(row).collect())
}

#[rstest]
fn inspect_agrees_with_partx_on_real_images(#[values(MEMTEST, RESCUE)] image: &str) {
    let bench = Bench::new();
    if !pack(&bench, image, "xz") {
        return;
    }
    let Some(judged) = rows_of_partx(&bench, "real.iso") else {
        return;
    };
    for source in ["real.iso", "real.iso.xz"] {
        let json = bench.run(&["--json", "inspect", source]).expect(0).json();
        assert_eq!(rows_of_inspect(&json), judged);
        let size = fs::metadata(image).unwrap().len();
        assert_eq!(json["unpacked_bytes"], size);
    }
}

#[rstest]
#[case::mbr(
    "label: dos\nlabel-id: 0x5eed0001\n- 4MiB c *\n- 8MiB 83\n- - 5\n- 2MiB 82\n- 3MiB 83\n"
)]
#[case::gpt("label: gpt\n- 4MiB U\n- 8MiB L\n- - S\n")]
fn inspect_agrees_with_partx_on_tables_by_sfdisk(#[case] script: &str) {
    let bench = Bench::new();
    fs::File::create(bench.path("disk.img"))
        .and_then(|file| file.set_len(64 << 20))
        .unwrap();
    let table = script
        .lines()
        .map(|line| match line.strip_prefix("- ") {
            Some(row) => {
                let fields: Vec<_> = row.split(' ').collect();
                let size = if fields[0] == "-" { "" } else { fields[0] };
                let active = fields.get(2).copied().unwrap_or("");
                format!(",{size},{},{active}\n", fields[1])
            }
            None => format!("{line}\n"),
        })
        .collect::<String>();
    bench.write("table", table);
    if !common::has("sfdisk") {
        return;
    }
    let made = bench.judge("sh", &["-c", "sfdisk -q disk.img < table"]);
    made.unwrap().expect(0);
    let Some(mut judged) = rows_of_partx(&bench, "disk.img") else {
        return;
    };
    // The extended partition only holds the logical ones.
    judged.retain(|row| row.3 != "05");
    let json = bench
        .run(&["--json", "inspect", "disk.img"])
        .expect(0)
        .json();
    let mut found = rows_of_inspect(&json);
    if json["scheme"]["kind"] == "GPT" {
        // partx shows the attribute bits of GPT entries in another form.
        for rows in [&mut found, &mut judged] {
            rows.iter_mut().for_each(|row| row.4 = false);
        }
    }
    assert_eq!(found, judged);
    assert!(judged.len() >= 3);
}

#[test]
fn inspect_knows_what_the_real_image_boots() {
    let bench = Bench::new();
    if !pack(&bench, MEMTEST, "gzip") {
        return;
    }
    let run = bench.run(&["inspect", "real.iso.gz"]).expect(0);
    for part in [
        "at least 6.19 MB",
        "UEFI on x86-64, a kernel without a loader, 2:/EFI/BOOT/BOOTX64.EFI: cannot be told",
        "boot code, and partition 1 is active",
        "MT86PLUS_64",
    ] {
        assert!(run.stdout.contains(part), "no {part:?} in:\n{}", run.stdout);
    }
}

#[test]
fn sizes_agree_with_the_packers_own_lists() {
    let bench = Bench::new();
    if !pack(&bench, MEMTEST, "xz") {
        return;
    }
    // Several streams with padding between them, as `cat` makes them.
    let one = bench.read("real.iso.xz");
    bench.write("two.xz", [&one[..], &[0; 4], &one, &[0; 8]].concat());
    let listed = bench.judge("xz", &["--robot", "--list", "two.xz"]).unwrap();
    let totals = listed
        .stdout
        .lines()
        .find(|line| line.starts_with("totals"));
    let size = totals.unwrap().split('\t').nth(4).unwrap().to_owned();
    let json = bench.run(&["--json", "inspect", "two.xz"]).expect(0).json();
    assert_eq!(json["unpacked_bytes"].to_string(), size);
}
