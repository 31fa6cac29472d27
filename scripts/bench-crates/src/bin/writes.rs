//! Times direct writes of 1 MiB to a file or device: threads with plain calls against io_uring, with
//! the same number in flight.
//!
//! writes PATH GIB IN_FLIGHT

use std::fs::{File, OpenOptions};
use std::os::fd::AsRawFd;
use std::os::unix::fs::{FileExt, OpenOptionsExt};
use std::sync::atomic::{AtomicU64, Ordering};
use std::time::Instant;

use io_uring::{IoUring, opcode, types};

const REQUEST: usize = 1 << 20;
const DIRECT: i32 = 0o40000;

fn main() {
    let mut args = std::env::args().skip(1);
    let path = args.next().expect("a path");
    let gib: u64 = args.next().and_then(|text| text.parse().ok()).unwrap_or(2);
    let in_flight: usize = args.next().and_then(|text| text.parse().ok()).unwrap_or(2);
    let requests = gib << 10;
    for round in 0..5 {
        let mut run = |name: &str, work: &dyn Fn(&File)| {
            let file = open(&path);
            let began = Instant::now();
            work(&file);
            file.sync_all().expect("a flush");
            let seconds = began.elapsed().as_secs_f64();
            println!("round {round}  {name:<9} {:7.0} MB/s", (gib << 30) as f64 / seconds / 1e6);
        };
        run("threads", &|file| threads(file, requests, in_flight));
        run("io_uring", &|file| ring(file, requests, in_flight));
    }
}

fn open(path: &str) -> File {
    let mut options = OpenOptions::new();
    options.write(true).create(true).custom_flags(DIRECT);
    options.open(path).expect("a path that can be written directly")
}

/// A buffer that begins at a page.
struct Aligned(Vec<u8>, usize);

impl Aligned {
    fn new() -> Self {
        let bytes = vec![0xa5; REQUEST + 4096];
        let start = bytes.as_ptr().align_offset(4096);
        Self(bytes, start)
    }

    fn bytes(&self) -> &[u8] {
        &self.0[self.1..self.1 + REQUEST]
    }
}

fn threads(file: &File, requests: u64, in_flight: usize) {
    let next = AtomicU64::new(0);
    std::thread::scope(|scope| {
        for _ in 0..in_flight {
            scope.spawn(|| {
                let buffer = Aligned::new();
                loop {
                    let index = next.fetch_add(1, Ordering::Relaxed);
                    if index >= requests {
                        return;
                    }
                    let place = index * REQUEST as u64;
                    file.write_all_at(buffer.bytes(), place).expect("a write");
                }
            });
        }
    });
}

fn ring(file: &File, requests: u64, in_flight: usize) {
    let mut ring = IoUring::new(32).expect("a ring");
    let buffers: Vec<Aligned> = (0..in_flight).map(|_| Aligned::new()).collect();
    let mut next = 0;
    let mut push = |ring: &mut IoUring, slot: usize| {
        if next >= requests {
            return false;
        }
        let bytes = buffers[slot].bytes();
        let entry = opcode::Write::new(types::Fd(file.as_raw_fd()), bytes.as_ptr(), REQUEST as u32)
            .offset(next * REQUEST as u64)
            .build()
            .user_data(slot as u64);
        next += 1;
        // SAFETY: the buffer outlives the request: all are waited for before this function ends.
        unsafe { ring.submission().push(&entry).expect("room for a request") };
        true
    };
    let mut open = (0..in_flight).filter(|slot| push(&mut ring, *slot)).count();
    while open > 0 {
        ring.submit_and_wait(1).expect("requests are taken");
        let done: Vec<_> = ring.completion().map(|entry| (entry.user_data(), entry.result())).collect();
        for (slot, result) in done {
            assert_eq!(result, REQUEST as i32, "a whole write");
            if !push(&mut ring, slot as usize) {
                open -= 1;
            }
        }
    }
}
