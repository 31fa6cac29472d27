//! Times inflate of the file that is named, or SHA-256 of 512 MiB.

use std::time::Instant;

fn main() {
    match std::env::args().nth(1) {
        Some(path) => inflate(&path),
        None => hash(),
    }
}

#[cfg(feature = "flate2")]
fn inflate(path: &str) {
    let packed = std::fs::read(path).expect("a file that can be read");
    let mut times = Vec::new();
    let mut bytes = 0;
    for _ in 0..5 {
        let began = Instant::now();
        let mut decoder = flate2::bufread::MultiGzDecoder::new(&packed[..]);
        bytes = std::io::copy(&mut decoder, &mut std::io::sink()).expect("a gzip file");
        times.push(began.elapsed().as_secs_f64());
    }
    show("inflate", bytes, &mut times);
}

#[cfg(not(feature = "flate2"))]
fn inflate(_path: &str) {
    println!("choose a feature: miniz-oxide, zlib-rs, zlib-ng, zlib-cloudflare");
}

fn hash() {
    use sha2::Digest;
    let chunk: Vec<u8> = (0..1u32 << 20).map(|n| (n.wrapping_mul(2_654_435_761) >> 13) as u8).collect();
    let mut times = [Vec::new(), Vec::new()];
    for _ in 0..5 {
        let began = Instant::now();
        let mut hasher = sha2::Sha256::new();
        (0..512).for_each(|_| hasher.update(&chunk));
        let first = hasher.finalize();
        times[0].push(began.elapsed().as_secs_f64());

        let began = Instant::now();
        let mut hasher = ring::digest::Context::new(&ring::digest::SHA256);
        (0..512).for_each(|_| hasher.update(&chunk));
        assert_eq!(hasher.finish().as_ref(), &first[..]);
        times[1].push(began.elapsed().as_secs_f64());
    }
    show("sha2", 512 << 20, &mut times[0]);
    show("ring", 512 << 20, &mut times[1]);
}

fn show(name: &str, bytes: u64, times: &mut [f64]) {
    times.sort_by(f64::total_cmp);
    let median = times[times.len() / 2];
    println!("{name:<8} {:6.0} MB/s (median of {})", bytes as f64 / median / 1e6, times.len());
}
