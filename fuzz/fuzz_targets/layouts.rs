//! Reads arbitrary text as a layout; what is accepted is planned for media of several sizes.

#![no_main]

use std::path::Path;

use libfuzzer_sys::fuzz_target;
use pinewrit_build::{BuildOptions, check, plan};
use pinewrit_disk::{MemoryDevice, SectorSize};
use pinewrit_image::OpenOptions;

fuzz_target!(|text: &str| {
    let Ok(layout) = check(text, Path::new("no such folder")) else {
        return;
    };
    for size in [1 << 20, 40 << 20] {
        for sector in [SectorSize::B512, SectorSize::B4096] {
            let device = MemoryDevice::new(size).with_sector(sector);
            let options = BuildOptions {
                now: 0,
                random: &|| [7; 16],
                zone: jiff::tz::TimeZone::UTC,
                open: OpenOptions::default(),
            };
            let _ = plan(&layout, &device, &options);
        }
    }
});
