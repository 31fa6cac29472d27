//! First-boot settings: what a settings file may say, how an operating system takes it in, and how
//! it gets onto a medium.

pub mod configure;
pub mod document;
pub mod intake;
pub mod settings;
