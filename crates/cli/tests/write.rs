//! `pinewrit write` and `verify` on card files: what is right, and everything that goes wrong.

#![allow(clippy::print_stderr, reason = "what the kills met is worth seeing")]
#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use std::io::{BufRead, BufReader};
use std::process::Stdio;

use common::{Bench, has_no_table, small_image, zstd};
use rstest::rstest;

const SUM_OF_NOTHING: &str = "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855";

/// A folder with `hut.img.zst` and, if asked for, an older card.
fn bench() -> Bench {
    let bench = Bench::new();
    bench.write("hut.img.zst", zstd(&small_image()));
    bench
}

fn old_card(bench: &Bench) {
    let mut card = small_image();
    card.resize(20 << 20, 0x77);
    bench.write("card.img", card);
}

#[test]
fn a_new_card_file_needs_no_question() {
    let bench = bench();
    let run = bench.run(&[
        "write",
        "hut.img.zst",
        "--to",
        "card.img",
        "--size",
        "16MiB",
    ]);
    let run = run.expect(0);
    assert!(
        run.stdout
            .contains("done: card.img holds hut.img.zst, verified")
    );
    let card = bench.read("card.img");
    assert_eq!(card.len(), 16 << 20);
    assert!(card[..14 << 20] == small_image());
}

#[test]
fn an_existing_card_is_shown_and_not_overwritten_unasked() {
    let bench = bench();
    old_card(&bench);
    let before = bench.read("card.img");
    bench
        .run(&["write", "hut.img.zst", "--to", "card.img"])
        .expect(3)
        .says(&["replaces", "FAT16 \"HUT BOOT\"", "nobody to ask", "--yes"]);
    assert!(bench.read("card.img") == before);
    bench
        .run(&["write", "hut.img.zst", "--to", "card.img", "--yes"])
        .expect(0);
    assert!(bench.read("card.img")[..14 << 20] == small_image());
}

#[test]
fn a_dry_run_writes_nothing() {
    let bench = bench();
    old_card(&bench);
    let before = bench.read("card.img");
    let args = ["write", "hut.img.zst", "--to", "card.img", "--dry-run"];
    let run = bench.run(&args).expect(0);
    assert!(run.stdout.contains("nothing was written"));
    assert!(bench.read("card.img") == before);
    bench
        .run(&[
            "write",
            "hut.img.zst",
            "--to",
            "new.img",
            "--size",
            "1GB",
            "--dry-run",
        ])
        .expect(0);
    assert!(!bench.path("new.img").exists());
}

#[test]
fn json_lines_and_nothing_else_on_stdout() {
    let bench = bench();
    let run = bench
        .run(&[
            "--json",
            "write",
            "hut.img.zst",
            "--to",
            "card.img",
            "--size",
            "16MiB",
        ])
        .expect(0);
    let result = run.json();
    assert_eq!(result["event"], "result");
    assert_eq!(result["image_bytes"], 14 << 20);
    assert_eq!(result["verified"], true);
    let stages: Vec<_> = run
        .stdout
        .lines()
        .map(|line| serde_json::from_str::<serde_json::Value>(line).unwrap())
        .filter(|event| event["event"] == "stage")
        .map(|event| event["stage"].as_str().unwrap().to_owned())
        .collect();
    assert_eq!(stages, ["clear", "write", "flush", "verify", "finish"]);
}

#[test]
fn json_tells_errors_too() {
    let bench = bench();
    let run = bench.run(&["--json", "inspect", "nothing.img"]).expect(4);
    let error = run.json();
    assert_eq!(
        (&error["event"], &error["exit"]),
        (&"error".into(), &4.into())
    );
    assert!(error["try"][0].is_string());
}

#[rstest]
#[case::missing("nothing.img", &["file nothing.img does not exist"])]
#[case::folder("folder", &["folder is a directory"])]
#[case::empty("empty.img", &["not an image", "is empty"])]
#[case::text("text.img", &["not an image", "text"])]
#[case::page("page.img", &["a web page", "get it again"])]
#[case::rar("rar.img", &["rar, a format", "unpack it"])]
#[case::device("/dev/null", &["neither a file nor a block device"])]
fn sources_that_are_no_images(#[case] source: &str, #[case] words: &[&str]) {
    let bench = bench();
    std::fs::create_dir(bench.path("folder")).unwrap();
    bench.write("empty.img", b"");
    bench.write("text.img", "see the read-me\n".repeat(1000));
    bench.write("page.img", "<!DOCTYPE html><p>404");
    bench.write("rar.img", b"Rar!\x1a\x07rest of the archive");
    bench
        .run(&[
            "write", source, "--to", "card.img", "--size", "1GB", "--yes",
        ])
        .expect(4)
        .says(words)
        .says(&["try"]);
    assert!(!bench.path("card.img").exists());
    bench.run(&["inspect", source]).expect(4).says(words);
}

fn gzip(bytes: &[u8]) -> Vec<u8> {
    let mut out = flate2::write::GzEncoder::new(Vec::new(), flate2::Compression::fast());
    std::io::Write::write_all(&mut out, bytes).unwrap();
    out.finish().unwrap()
}

fn xz(bytes: &[u8]) -> Vec<u8> {
    let mut out = liblzma::write::XzEncoder::new(Vec::new(), 1);
    std::io::Write::write_all(&mut out, bytes).unwrap();
    out.finish().unwrap()
}

fn zstd_with_checksum(bytes: &[u8]) -> Vec<u8> {
    let mut out = zstd::Encoder::new(Vec::new(), 1).unwrap();
    out.include_checksum(true).unwrap();
    std::io::Write::write_all(&mut out, bytes).unwrap();
    out.finish().unwrap()
}

#[rstest]
#[case::gzip(gzip, "gzip")]
#[case::xz(xz, "xz")]
#[case::zstd(zstd_with_checksum, "zstd")]
fn damaged_sources(#[case] pack: fn(&[u8]) -> Vec<u8>, #[case] layer: &str) {
    let bench = bench();
    let packed = pack(&small_image());
    let args = ["write", "bad", "--to", "card.img", "--yes"];
    let spoil = |packed: &[u8]| {
        let mut flipped = packed.to_vec();
        flipped[packed.len() * 2 / 3] ^= 0x20;
        [packed[..packed.len() * 2 / 3].to_vec(), flipped]
    };
    for (bad, what) in spoil(&packed).iter().zip(["ends too early", "is damaged"]) {
        old_card(&bench);
        bench.write("bad", bad);
        bench.run(&args).expect(4).says(&[
            "bad",
            what,
            layer,
            "no partition table",
            "get it again",
        ]);
        assert!(has_no_table(&bench.read("card.img")));
    }
}

#[test]
fn damage_at_the_start_is_told_before_writing() {
    let bench = bench();
    old_card(&bench);
    let before = bench.read("card.img");
    bench.write("bad", &gzip(&small_image())[..5000]);
    bench
        .run(&["write", "bad", "--to", "card.img", "--yes"])
        .expect(4)
        .says(&["bad ends too early", "nothing was written"]);
    assert!(bench.read("card.img") == before);
}

#[test]
fn an_image_that_does_not_fit() {
    let bench = bench();
    bench
        .run(&["write", "hut.img.zst", "--to", "card.img", "--size", "10MB"])
        .expect(3)
        .says(&[
            "this image does not fit on card.img",
            "14.68 MB  (14 680 064 bytes)",
            "10.00 MB  (10 000 000 bytes), 4.68 MB short",
        ]);
    assert!(!bench.path("card.img").exists());
}

#[test]
fn an_image_of_unknown_size_that_does_not_fit() {
    let bench = bench();
    bench.write("hut.img.gz", gzip(&small_image()));
    bench
        .run(&["write", "hut.img.gz", "--to", "card.img", "--size", "10MB"])
        .expect(3)
        .says(&["continues past the end", "10.00 MB", "no partition table"]);
    assert!(has_no_table(&bench.read("card.img")));
}

#[rstest]
#[case::argument(None)]
#[case::own_file(Some("hut.img.zst.sha256"))]
#[case::list(Some("SHA256SUMS"))]
fn a_wrong_checksum(#[case] file: Option<&str>) {
    let bench = bench();
    old_card(&bench);
    let before = bench.read("card.img");
    let mut args = vec!["write", "hut.img.zst", "--to", "card.img", "--yes"];
    let given = format!("sha256:{SUM_OF_NOTHING}");
    match file {
        None => args.extend(["--checksum", &given]),
        Some(file) => drop(bench.write(file, format!("{SUM_OF_NOTHING}  hut.img.zst\n"))),
    }
    bench.run(&args).expect(4).says(&[
        "checksum of hut.img.zst does not match",
        SUM_OF_NOTHING,
        "packed",
        "nothing was written",
    ]);
    assert!(bench.read("card.img") == before);
}

#[rstest]
#[case::list(
    "sha256sum hut.img.zst > SHA256SUMS",
    "sha256 of the packed file matches, from SHA256SUMS"
)]
#[case::own(
    "sha512sum hut.img.zst > hut.img.zst.sha512",
    "sha512 of the packed file matches"
)]
#[case::bsd(
    "sha1sum --tag hut.img.zst > hut.img.zst.sha1",
    "sha1 of the packed file matches"
)]
#[case::weak(
    "md5sum hut.img.zst > MD5SUMS",
    "md5 of the packed file matches, from MD5SUMS"
)]
#[case::image(
    "sha256sum hut.img > SHA256SUMS",
    "sha256 of the unpacked image matches"
)]
#[case::image_own(
    "sha256sum hut.img > hut.img.sha256",
    "sha256 of the unpacked image matches"
)]
#[case::bare(
    "sha256sum < hut.img | cut -c1-64 > hut.img.zst.sha256",
    "unpacked image matches"
)]
#[case::strongest(
    "md5sum hut.img > MD5SUMS; sha256sum hut.img > SHA256SUMS",
    "sha256 of"
)]
fn right_checksums_from_the_usual_tools(#[case] tool: &str, #[case] words: &str) {
    let bench = bench();
    bench.write("hut.img", small_image());
    if !common::has("sha256sum") {
        return;
    }
    bench.judge("sh", &["-c", tool]).unwrap().expect(0);
    let args = [
        "write",
        "hut.img.zst",
        "--to",
        "card.img",
        "--size",
        "16MiB",
    ];
    let run = bench.run(&args).expect(0);
    assert!(run.stdout.contains(words), "{}", run.stdout);
    if tool.contains("md5sum hut.img.zst") {
        run.says(&["protects against accidents only"]);
    }
}

#[rstest]
#[case::no_size(&["--to", "new.img"], 2, "--size 8GB")]
#[case::folder(&["--to", "."], 2, "not a medium")]
#[case::null(&["--to", "/dev/null"], 2, "neither a block device")]
#[case::no_folder(&["--to", "no/such/card.img", "--size", "1GB"], 2, "there is no medium")]
#[case::other_size(&["--to", "card.img", "--size", "1GB", "--yes"], 2, "another size")]
#[case::itself(&["--to", "hut.img.zst", "--yes"], 3, "the image is on it, or is the same thing")]
#[case::checksum(&["--to", "card.img", "--checksum", "md5:1", "--yes"], 2, "is not a checksum")]
#[case::locked(&["--to", "locked.img", "--yes"], 3, "locked.img is write-protected")]
fn media_that_are_refused(#[case] args: &[&str], #[case] code: i32, #[case] words: &str) {
    let bench = bench();
    old_card(&bench);
    let locked = bench.write("locked.img", small_image());
    let mut permissions = std::fs::metadata(&locked).unwrap().permissions();
    permissions.set_readonly(true);
    std::fs::set_permissions(&locked, permissions).unwrap();
    let before = bench.read("card.img");
    let args = [&["write", "hut.img.zst"], args].concat();
    bench.run(&args).expect(code).says(&[words]);
    assert!(bench.read("card.img") == before);
    assert!(bench.read("locked.img") == small_image());
}

#[test]
fn a_full_disk_is_no_bad_card() {
    let bench = bench();
    let place = bench.path("small");
    std::fs::create_dir(&place).unwrap();
    let mount = |args: &[&str]| bench.judge("mount", args).is_some_and(|run| run.code == 0);
    if !mount(&["-t", "tmpfs", "-o", "size=4M", "tmpfs", "small"]) {
        return;
    }
    let run = bench.run(&[
        "write",
        "hut.img.zst",
        "--to",
        "small/card.img",
        "--size",
        "16MiB",
    ]);
    let _ = bench.judge("umount", &["small"]);
    run.expect(3)
        .says(&["the disk that holds it is full", "no partition table"]);
}

/// Starts a write to a slow card and waits until it has come to `stage`.
fn start_until(bench: &Bench, stage: &str) -> std::process::Child {
    let noise: Vec<u8> = (0..40u64 << 20).map(|i| ((i * i) >> 9) as u8).collect();
    bench.write("large.img.zst", zstd(&noise));
    bench.write(
        "rack.toml",
        "[[readers]]\nname = \"slot\"\nbus = \"sd\"\nholds = \"card\"\n\
         [[cards]]\nname = \"card\"\nfile = \"card.img\"\nsize = \"64MiB\"\n\
         write-speed = \"40MB/s\"\nread-speed = \"20MB/s\"\n",
    );
    let args = [
        "--rack",
        "rack.toml",
        "--json",
        "write",
        "large.img.zst",
        "--to",
        "rack:slot",
        "--yes",
        "--as-it-is",
    ];
    let mut child = bench
        .command(&args)
        .stdout(Stdio::piped())
        .stderr(Stdio::piped())
        .spawn()
        .unwrap();
    let wanted = format!("\"stage\":\"{stage}\"");
    let mut lines = BufReader::new(child.stdout.take().unwrap()).lines();
    assert!(lines.any(|line| line.unwrap().contains(&wanted)));
    // Reading goes on, so that the program is not held back by a full pipe.
    std::thread::spawn(move || lines.for_each(drop));
    child
}

#[rstest]
#[case::writing("write")]
#[case::reading_back("verify")]
fn an_interrupted_write_leaves_no_table(#[case] stage: &str) {
    let bench = bench();
    let child = start_until(&bench, stage);
    let pid = rustix::process::Pid::from_child(&child);
    rustix::process::kill_process(pid, rustix::process::Signal::INT).unwrap();
    let output = child.wait_with_output().unwrap();
    common::Run::from(output)
        .expect(130)
        .says(&["stopped as requested", "no partition table"]);
    assert!(has_no_table(&bench.read("card.img")));
}

#[test]
fn a_killed_write_leaves_no_table() {
    let bench = bench();
    let mut child = start_until(&bench, "verify");
    child.kill().unwrap();
    child.wait().unwrap();
    assert!(has_no_table(&bench.read("card.img")));
}

/// Whatever the moment: the medium has no table, or it holds the whole image. The moments are
/// spread over a whole write, and differ from run to run.
#[test]
fn a_write_killed_at_any_moment_is_undone_or_done() {
    let bench = bench();
    let image = small_image();
    let write = |bench: &Bench| {
        let args = [
            "write",
            "hut.img.zst",
            "--to",
            "card.img",
            "--yes",
            "-q",
            "--every-byte",
        ];
        let mut command = bench.command(&args);
        command.stdout(Stdio::null()).spawn().unwrap()
    };
    old_card(&bench);
    let began = std::time::Instant::now();
    write(&bench).wait().unwrap();
    let usual = began.elapsed();
    let mut outcomes = [0; 3];
    for step in 0..50 {
        old_card(&bench);
        let jitter = began.elapsed().subsec_nanos() % 1000;
        let delay = usual.mul_f64((f64::from(step) + f64::from(jitter) / 1000.0) / 44.0);
        let mut child = write(&bench);
        std::thread::sleep(delay);
        child.kill().unwrap();
        child.wait().unwrap();
        let card = bench.read("card.img");
        let untouched = card[15 << 20..].iter().all(|&b| b == 0x77);
        let has_table = card[0x1be..0x200].iter().any(|&b| b != 0);
        let whole = card[..image.len()] == image;
        assert!(untouched || !has_table || whole, "after {delay:?}");
        outcomes[if whole && !untouched {
            2
        } else {
            usize::from(!untouched)
        }] += 1;
    }
    eprintln!("untouched, without a table, whole: {outcomes:?}");
    // The first kills come long before the end, and some in the middle.
    assert!(
        outcomes[0] + outcomes[1] > 0 && outcomes[1] > 0,
        "{outcomes:?}"
    );
}

#[test]
fn verify_names_partition_and_bytes() {
    let bench = bench();
    let mut card = small_image();
    card.resize(16 << 20, 0);
    bench.write("card.img", &card);
    let args = ["verify", "card.img", "--image", "hut.img.zst"];
    let run = bench.run(&args).expect(0);
    assert!(run.stdout.starts_with("equal: card.img holds hut.img.zst"));

    card[(10 << 20) + 5] ^= 1;
    card[(10 << 20) + 7] ^= 1;
    bench.write("card.img", &card);
    bench.run(&args).expect(6).says(&[
        "card.img differs from hut.img.zst",
        "differing 2 bytes in 1 of 4 chunks",
        "bytes 10 485 765 to 10 485 767, in partition 2 from its byte 1 048 581",
    ]);
    let json = bench.run(&[&["--json"], &args[..]].concat()).expect(6);
    assert!(json.stdout.contains("\"differing_bytes\":2"));

    bench.write("card.img", &card[..5 << 20]);
    bench.run(&args).expect(6).says(&["larger than card.img"]);
}
