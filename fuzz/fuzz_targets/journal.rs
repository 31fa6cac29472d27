//! Journals of ext3 and ext4: any bytes end with an answer, and only blocks of the log are named.

#![no_main]

use std::convert::Infallible;

use libfuzzer_sys::fuzz_target;
use pinewrit_ext4_journal::{Head, Replay};

const SIZE: usize = 1024;
const BLOCKS: u64 = 4096;

fuzz_target!(|data: &[u8]| {
    let Ok(head) = Head::parse(data, SIZE, BLOCKS) else {
        return;
    };
    // What lies behind the input is zeros.
    let mut read = |place: u32, block: &mut [u8]| {
        assert!(u64::from(place) < BLOCKS);
        block.fill(0);
        let rest = data.get(place as usize * SIZE..).unwrap_or_default();
        let len = rest.len().min(SIZE);
        block[..len].copy_from_slice(&rest[..len]);
        Ok::<(), Infallible>(())
    };
    if let Ok(replay) = Replay::find(&head, &mut read) {
        for saved in replay.blocks.values() {
            assert!((head.first..head.end()).contains(&saved.place));
        }
        let emptied = head.emptied(replay.next);
        let again = Head::parse(&emptied.to_block(), SIZE, BLOCKS);
        assert_eq!(again.map(|head| head.start), Ok(0));
    }
});
