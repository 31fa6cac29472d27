//! Every wrapping that the guide lists, made by strangers' packers; and each of them broken.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use common::{Bench, Run, has_no_table, small_image};
use rstest::rstest;

const SIZE: usize = 14 << 20;

/// A folder with `packed`, which `commands` make of `hut.img`.
fn packed(commands: &str) -> Option<Bench> {
    let tools = [
        "gzip", "pigz", "xz", "zstd", "pzstd", "bzip2", "pbzip2", "lbzip2", "lz4", "zip", "7z",
        "tar", "lzip", "img2simg",
    ];
    if !tools.iter().all(|tool| common::has(tool)) {
        return None;
    }
    let bench = Bench::new();
    bench.write("hut.img", small_image());
    bench
        .judge("sh", &["-e", "-c", commands])
        .unwrap()
        .expect(0);
    std::fs::remove_file(bench.path("hut.img")).unwrap();
    Some(bench)
}

fn write(bench: &Bench, image: &str) -> Run {
    let mut card = small_image();
    card.resize(SIZE + (2 << 20), 0x77);
    bench.write("card.img", card);
    bench.run(&["write", image, "--to", "card.img", "--yes"])
}

fn holds_image(bench: &Bench) -> bool {
    bench.read("card.img")[..SIZE] == small_image()
}

#[rstest]
#[case("none", "cp hut.img packed")]
#[case("gzip", "gzip -c hut.img > packed")]
#[case("gzip", "pigz -c hut.img > packed")]
#[case(
    "gzip",
    "(head -c 5M hut.img | gzip; tail -c +5242881 hut.img | gzip) > packed"
)]
#[case("xz", "xz -c hut.img > packed")]
#[case("xz", "xz -T0 --block-size=1MiB -c hut.img > packed")]
#[case(
    "xz",
    "(head -c 5M hut.img | xz; printf '\\0\\0\\0\\0'; tail -c +5242881 hut.img | xz) > packed"
)]
#[case("xz", "xz --check=sha256 -c hut.img > packed")]
#[case("xz", "xz --arm --lzma2=preset=1 -c hut.img > packed")]
#[case("zstd", "zstd -q -c hut.img > packed")]
#[case("zstd", "zstd -q -c < hut.img > packed")]
#[case("zstd", "pzstd -q -c hut.img > packed")]
#[case("zstd", "zstd -q --long=27 -c hut.img > packed")]
#[case("zstd", "zstd -q --no-check -19 -c hut.img > packed")]
#[case(
    "zstd",
    "(head -c 5M hut.img | zstd -q; tail -c +5242881 hut.img | zstd -q) > packed"
)]
#[case("bzip2", "bzip2 -c hut.img > packed")]
#[case("bzip2", "bzip2 -1 -c hut.img > packed")]
#[case("bzip2", "pbzip2 -c hut.img > packed")]
#[case("bzip2", "lbzip2 -c hut.img > packed")]
#[case("lz4 (frame)", "lz4 -q -c hut.img > packed")]
#[case("lz4 (frame)", "lz4 -q -BD -B4 --content-size -c hut.img > packed")]
#[case(
    "lz4 (frame)",
    "(head -c 5M hut.img | lz4 -q; tail -c +5242881 hut.img | lz4 -q) > packed"
)]
#[case("lzma (the older format)", "xz --format=lzma -c hut.img > packed")]
#[case("lzip", "lzip -c hut.img > packed")]
#[case("lzip", "lzip -c -b 200000 hut.img > packed")]
#[case("Android sparse image", "img2simg hut.img packed")]
#[case("Android sparse image", "img2simg hut.img packed 1024")]
#[case("zip", "zip -q packed hut.img; mv packed.zip packed")]
#[case("zip", "zip -q -0 packed hut.img; mv packed.zip packed")]
#[case("zip", "zip -q -fz packed hut.img; mv packed.zip packed")]
#[case("zip", "7z a -tzip -mm=Deflate64 packed hut.img; mv packed.zip packed")]
#[case("zip", "7z a -tzip -mm=BZip2 packed hut.img; mv packed.zip packed")]
#[case("zip", "7z a -tzip -mm=LZMA packed hut.img; mv packed.zip packed")]
#[case("7z", "7z a packed hut.img; mv packed.7z packed")]
#[case("7z", "7z a -m0=LZMA packed hut.img; mv packed.7z packed")]
#[case("7z", "7z a -m0=BCJ -m1=LZMA2 packed hut.img; mv packed.7z packed")]
#[case("7z", "7z a -m0=BZip2 packed hut.img; mv packed.7z packed")]
#[case("7z", "7z a -m0=Deflate packed hut.img; mv packed.7z packed")]
#[case("tar, inside any of the others", "tar -cf packed hut.img")]
#[case("tar, inside any of the others", "tar -czf packed hut.img")]
#[case("tar, inside any of the others", "tar -cJf packed hut.img")]
#[case("tar, inside any of the others", "tar -cjf packed hut.img")]
#[case("tar, inside any of the others", "tar --zstd -cf packed hut.img")]
#[case("tar, inside any of the others", "tar -c hut.img | lz4 -q > packed")]
#[case(
    "pieces of any of them",
    "split -b 1M hut.img packed.; cp packed.aa packed"
)]
fn each_wrapping_of_the_guide_is_written(#[case] row: &str, #[case] commands: &str) {
    let Some(bench) = packed(commands) else {
        return;
    };
    let image = match row {
        "pieces of any of them" => "packed.aa",
        _ => "packed",
    };
    write(&bench, image).expect(0);
    assert!(holds_image(&bench));
}

/// What comes from elsewhere has tests of its own; every other row has a case above.
#[test]
fn the_guide_lists_what_is_tested() {
    let guide = include_str!("../../../docs/guide.md");
    let tests = include_str!("wrappings.rs");
    let table = guide
        .lines()
        .skip_while(|line| !line.starts_with("| wrapping |"));
    let rows = table.skip(2).take_while(|line| line.starts_with('|'));
    let mut count = 0;
    for row in rows {
        let name = row.split('|').nth(1).unwrap().trim();
        let tested = tests.contains(&format!("\"{name}\""));
        assert!(tested || name.starts_with("a URL"), "{name} has no test");
        count += 1;
    }
    assert!(count > 9, "{count} rows");
}

const PACKERS: &[(&str, &str)] = &[
    ("gzip", "gzip -c hut.img > packed"),
    ("xz", "xz -T0 --block-size=1MiB -c hut.img > packed"),
    ("zstd", "zstd -q -c hut.img > packed"),
    ("zstd", "pzstd -q -c hut.img > packed"),
    ("bzip2", "bzip2 -c hut.img > packed"),
    ("lz4", "lz4 -q -c hut.img > packed"),
    ("zip", "zip -q packed hut.img; mv packed.zip packed"),
    ("7z", "7z a packed hut.img; mv packed.7z packed"),
    ("tar", "tar -czf packed hut.img"),
    ("lzma", "xz --format=lzma -c hut.img > packed"),
    (
        "zip",
        "xz hut.img -c > h.img.xz; zip -q packed h.img.xz; mv packed.zip packed",
    ),
];

/// What a packer calls its files: without it, a broken mark would leave bytes of any kind.
fn ending(layer: &str) -> &str {
    match layer {
        "gzip" => "gz",
        "zstd" => "zst",
        "bzip2" => "bz2",
        "tar" => "tgz",
        layer => layer,
    }
}

/// Places all over a file, the first and last bytes among them.
fn places(len: usize) -> Vec<usize> {
    let spread = (1..8).map(|n| n * len / 8 + n * 131);
    let ends = [
        0,
        1,
        5,
        11,
        17,
        300,
        len - 300,
        len - 30,
        len - 9,
        len - 5,
        len - 1,
    ];
    let mut places: Vec<usize> = spread.chain(ends).filter(|at| *at < len).collect();
    places.sort_unstable();
    places
}

#[rstest]
fn cut_anywhere(#[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 9, 10)] packer: usize) {
    let (layer, commands) = PACKERS[packer];
    let Some(bench) = packed(commands) else {
        return;
    };
    let whole = bench.read("packed");
    for at in places(whole.len()) {
        bench.write("cut", &whole[..at]);
        let run = write(&bench, "cut").expect(4).says(&["cut"]);
        let card = bench.read("card.img");
        let begun = card[..SIZE] != small_image();
        assert!(
            !begun || has_no_table(&card),
            "{layer} cut at {at}: {}",
            run.stderr
        );
        assert_eq!(
            run.stderr.matches("pinewrit:").count(),
            1,
            "{at}: {}",
            run.stderr
        );
    }
}

/// Without lzma, which has no checksum.
#[rstest]
fn a_flipped_bit_is_noticed_or_harmless(#[values(0, 1, 2, 3, 4, 5, 6, 7, 8, 10)] packer: usize) {
    let (layer, commands) = PACKERS[packer];
    let Some(bench) = packed(commands) else {
        return;
    };
    let whole = bench.read("packed");
    for at in places(whole.len()) {
        let mut flipped = whole.clone();
        flipped[at] ^= 0x10;
        let name = format!("flipped.{}", ending(layer));
        bench.write(&name, flipped);
        let run = write(&bench, &name);
        let card = bench.read("card.img");
        match run.code {
            // A byte of a file name or a time, for example.
            0 => assert!(card[..SIZE] == small_image(), "{layer} at {at}"),
            _ => {
                let run = run.expect(4).says(&["flipped"]);
                let begun = card[..SIZE] != small_image();
                assert!(
                    !begun || has_no_table(&card),
                    "{layer} at {at}: {}",
                    run.stderr
                );
            }
        }
    }
}

#[rstest]
#[case::gzip(0, "gzip")]
#[case::xz(1, "xz")]
#[case::zstd(2, "zstd")]
#[case::bzip2(4, "bzip2")]
#[case::lz4(5, "lz4")]
fn garbage_after_the_end_is_told(#[case] packer: usize, #[case] layer: &str) {
    let Some(bench) = packed(PACKERS[packer].1) else {
        return;
    };
    let mut garbage = bench.read("packed");
    garbage.extend(b"<html>and then a page</html>");
    bench.write("garbage", garbage);
    write(&bench, "garbage")
        .expect(4)
        .says(&["garbage is damaged", layer]);
    assert!(has_no_table(&bench.read("card.img")));
}

#[rstest]
#[case::gzip("gzip -c empty > packed")]
#[case::xz("xz -c empty > packed")]
#[case::zstd("zstd -q -c empty > packed")]
#[case::bzip2("bzip2 -c empty > packed")]
#[case::lz4("lz4 -q -c empty > packed")]
#[case::zip("mv empty hut.img; zip -q packed hut.img; mv packed.zip packed")]
#[case::sevenz("mv empty hut.img; 7z a packed hut.img; mv packed.7z packed")]
#[case::tar("mv empty hut.img; tar -cf packed hut.img")]
fn nothing_in_a_wrapping(#[case] commands: &str) {
    let Some(bench) = packed(&format!("touch empty; {commands}; touch hut.img")) else {
        return;
    };
    let run = write(&bench, "packed").expect(4);
    let told = ["is empty", "contains no image"]
        .iter()
        .any(|words| run.stderr.contains(words));
    assert!(told, "{}", run.stderr);
    assert!(!has_no_table(&bench.read("card.img")));
}

/// Terabytes in a few bytes: the medium's size is the bound.
#[rstest]
#[case::zstd("head -c 4G /dev/zero | zstd -q > packed")]
#[case::bzip2("head -c 100M /dev/zero | bzip2 > packed")]
fn a_bomb_ends_at_the_mediums_end(#[case] commands: &str) {
    let Some(bench) = packed(commands) else {
        return;
    };
    bench
        .run(&[
            "write",
            "packed",
            "--to",
            "card.img",
            "--size",
            "24MB",
            "--as-it-is",
        ])
        .expect(3)
        .says(&["does not fit"]);
}

#[test]
fn an_archive_of_endless_filling_is_given_up() {
    let Some(bench) =
        packed("truncate -s 5G f.txt; tar -c f.txt hut.img | zstd -q -1 > packed; rm f.txt")
    else {
        return;
    };
    write(&bench, "packed")
        .expect(4)
        .says(&["no image in its first 4 GiB", "tar"]);
    assert!(!has_no_table(&bench.read("card.img")));
}

/// A tar's long name or attributes are kept in memory by whoever reads them.
#[test]
fn a_tar_head_of_any_size_is_not_kept() {
    let bench = Bench::new();
    let mut head = tar_head(b'L', 64 << 20);
    head.resize(512 + (64 << 20), b'a');
    bench.write("evil.tar.zst", common::zstd(&head));
    write(&bench, "evil.tar.zst")
        .expect(4)
        .says(&["evil.tar.zst is damaged", "header of several megabytes"]);
    bench.write("evil.tar", head);
    write(&bench, "evil.tar")
        .expect(4)
        .says(&["header of several megabytes"]);
}

fn tar_head(kind: u8, size: u64) -> Vec<u8> {
    let mut head = vec![0; 512];
    head[..13].copy_from_slice(b"././@LongLink");
    head[124..136].copy_from_slice(format!("{size:011o}\0").as_bytes());
    head[156] = kind;
    head[257..265].copy_from_slice(b"ustar  \0");
    head[148..156].fill(b' ');
    let sum: u32 = head.iter().map(|byte| u32::from(*byte)).sum();
    head[148..156].copy_from_slice(format!("{sum:06o}\0 ").as_bytes());
    head
}

#[test]
fn archives_in_archives_without_end() {
    let commands = "for n in 1 2 3 4 5 6 7 8 9; do zip -q -0 next hut.img*; rm hut.img*; mv next.zip hut.img.zip; done; mv hut.img.zip packed; touch hut.img";
    let Some(bench) = packed(commands) else {
        return;
    };
    write(&bench, "packed")
        .expect(4)
        .says(&["more than 8 layers"]);
}

#[test]
fn the_checksum_in_the_archive_is_compared() {
    let commands = "sha256sum hut.img > hut.img.sha256; zip -q packed hut.img hut.img.sha256; mv packed.zip packed; rm hut.img.sha256";
    let Some(bench) = packed(commands) else {
        return;
    };
    let run = write(&bench, "packed").expect(0);
    let told = "sha256 of the unpacked image matches, from hut.img.sha256 in the archive";
    assert!(run.stdout.contains(told), "{}", run.stdout);
    let run = bench.run(&["inspect", "packed"]).expect(0);
    assert!(
        run.stdout.contains("beside it hut.img.sha256"),
        "{}",
        run.stdout
    );

    let Some(bench) =
        packed(&commands.replace("sha256sum hut.img", "echo 00 | sha256sum - | tr - h"))
    else {
        return;
    };
    // A list that names something else is none.
    write(&bench, "packed").expect(0);
    let wrong = format!("printf '{}  hut.img' > hut.img.sha256; ", "0".repeat(64));
    let commands = commands.replace("sha256sum hut.img > hut.img.sha256; ", &wrong);
    let Some(bench) = packed(&commands) else {
        return;
    };
    write(&bench, "packed")
        .expect(4)
        .says(&["checksum of packed does not match"]);
    assert!(has_no_table(&bench.read("card.img")));
}

/// Vendors put the checksum of the packed image beside it in one more archive.
#[rstest]
#[case::bare(
    "sha256sum hut.img.xz | cut -d ' ' -f 1 > hut.img.xz.sha256",
    "zip -q packed",
    0
)]
#[case::list("sha512sum hut.img.xz > SHA512SUMS", "tar -cf packed.zip", 0)]
#[case::wrong(
    "echo x | sha256sum | cut -d ' ' -f 1 > hut.img.xz.sha256",
    "zip -q packed",
    4
)]
fn the_checksum_of_a_packed_member(#[case] sum: &str, #[case] packer: &str, #[case] code: i32) {
    let commands = format!(
        "xz -k hut.img; {sum}; rm -f packed; {packer} $(ls *SUMS *.sha256 *.md5 || true) hut.img.xz; \
         rm -f *SUMS *.sha256 *.md5; mv packed.* packed"
    );
    let Some(bench) = packed(&commands) else {
        return;
    };
    let run = write(&bench, "packed").expect(code);
    let told = match code {
        0 => run.stdout.contains("of the packed member matches, from "),
        _ => run.stderr.contains("member    sha256:"),
    };
    assert!(told, "{}{}", run.stdout, run.stderr);
}

#[rstest]
#[case::one_block("xz -c hut.img > packed", Some("a single block"))]
#[case::large_blocks("xz -0 --block-size=8MiB -c hut.img > packed", None)]
fn xz_in_one_thread_is_said_with_v(#[case] commands: &str, #[case] words: Option<&str>) {
    let Some(bench) = packed(commands) else {
        return;
    };
    let args = [
        "write", "packed", "--to", "card.img", "--size", "16MiB", "-v",
    ];
    let run = bench.run(&[&args[..], &["--dry-run"]].concat()).expect(0);
    let cores = std::thread::available_parallelism().unwrap().get();
    match words {
        Some(words) if cores > 1 => assert!(run.stderr.contains(words), "{}", run.stderr),
        _ => assert_eq!(run.stderr.contains("by one thread"), cores == 1),
    }
}

#[test]
fn a_name_that_promises_more_than_the_content() {
    let bench = Bench::new();
    bench.write("hut.img.xz", vec![0x99; 4096]);
    write(&bench, "hut.img.xz")
        .expect(4)
        .says(&["not compressed as its name says"]);
    // A boot sector makes up for it.
    bench.write("hut.img.xz", small_image());
    write(&bench, "hut.img.xz").expect(0);
}

/// A medium is a source like any other: copied as it is.
#[test]
fn from_one_medium_to_another() {
    let bench = Bench::new();
    bench.write("hut.img", small_image());
    let Some(reader) = common::Loop::over(&bench.path("hut.img"), &["--read-only"]) else {
        return;
    };
    write(&bench, &reader.path).expect(0);
    assert!(holds_image(&bench));
    write(&bench, "card.img")
        .expect(3)
        .says(&["the image is on it, or is the same thing"]);
}

/// gzip's own size is a hint: told, and not relied on.
#[test]
fn a_gzip_that_seems_too_large() {
    let Some(bench) = packed("gzip -c hut.img > packed") else {
        return;
    };
    let args = ["write", "packed", "--to", "small.img", "--size", "8MiB"];
    let run = bench.run(&args).expect(3);
    for words in [
        "at least 14.68 MB",
        "probably not",
        "does not fit on small.img",
    ] {
        assert!(run.stderr.contains(words), "{}", run.stderr);
    }
}
