//! A trial: a medium or an image is started in an emulator, on an overlay, and watched up to its login.

mod emulator;
mod machine;
mod monitor;
mod qcow2;
mod run;

pub use machine::{Machine, MachineError, Network, Slot, Start, best_way};
pub use run::{
    Aim, HARDWARE, News, Observer, Outcome, TrialError, TrialReport, TrialRequest, trial,
};
