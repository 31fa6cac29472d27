//! The demo's image: a made-up system for the made-up boards of the Larkfell huts.

mod image;

pub use image::{DEMO_IMAGE_SIZE, DemoError, make_image};
