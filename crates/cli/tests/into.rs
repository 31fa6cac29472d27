//! An image of one file system into one partition.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

mod common;

use common::{Bench, small_image};

const MIB: usize = 1 << 20;

#[test]
fn one_partition_is_written_and_the_rest_stays() {
    let bench = Bench::new();
    bench.write("hut.img", small_image());
    bench
        .run(&["table", "create", "card.img", "--size", "96MiB"])
        .expect(0);
    for size in ["16MiB", "64MiB"] {
        let add = [
            "table", "add", "card.img", "--type", "linux", "--size", size,
        ];
        bench.run(&add).expect(0);
    }
    let format = [
        "format", "card.img", "1", "--as", "fat16", "--label", "KEEP",
    ];
    bench.run(&format).expect(0);
    let make = "mkdir tree; printf three > tree/hut; truncate -s 20M root.ext4; \
                mke2fs -q -F -t ext4 -L root -d tree root.ext4 && zstd -q root.ext4";
    let Some(made) = bench.judge("sh", &["-c", make]) else {
        return;
    };
    made.expect(0);
    let before = bench.read("card.img");
    let write = |more: &[&str]| {
        let args = ["write", "root.ext4.zst", "--to", "card.img", "--yes"];
        bench.run(&[&args, more].concat())
    };
    write(&["--into", "7"]).expect(2).says(&["no partition 7"]);
    write(&["--into", "KEEP", "--dry-run"])
        .expect(3)
        .says(&["does not fit"]);
    assert!(bench.read("card.img") == before);
    write(&["--into", "2", "--grow", "--receipt", "two.json"])
        .expect(0)
        .shows(&["partition 2 of card.img", "ext4 from 20.97 MB to 67.11 MB"]);
    let after = bench.read("card.img");
    assert!(after[..17 * MIB] == before[..17 * MIB]);
    let place = format!("card.img?offset={}", 17 * MIB);
    let judged = bench.judge("e2fsck", &["-fn", &place]).unwrap().expect(0);
    judged.shows(&["/65536 blocks"]);
    bench
        .run(&["verify", "card.img", "--receipt", "two.json"])
        .expect(0)
        .shows(&["equal:", "partition 2 of card.img"]);
    // An image of a whole medium does not go into a partition.
    bench
        .run(&[
            "write", "hut.img", "--to", "card.img", "--into", "2", "--yes",
        ])
        .expect(2)
        .says(&["image of a whole medium", "nothing was written"]);
}
