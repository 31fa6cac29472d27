//! How operating systems take first-boot settings in. One module for each way.

pub mod cloud_init;
