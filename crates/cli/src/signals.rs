//! ^C and its kin, while a job is at work. At other times they end the program as always.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use pinewrit_core::Cancel;
use signal_hook::consts::{SIGINT, SIGTERM};

use crate::exit::Exit;

/// The first ^C asks for an orderly end; the second one ends at once.
pub(crate) fn watch() -> Cancel {
    let flag = Arc::new(AtomicBool::new(false));
    for signal in [SIGINT, SIGTERM] {
        let interrupted = i32::from(Exit::Interrupted.code());
        // Where the system refuses, ^C ends the program as it always does.
        let _ = signal_hook::flag::register_conditional_shutdown(
            signal,
            interrupted,
            Arc::clone(&flag),
        );
        let _ = signal_hook::flag::register(signal, Arc::clone(&flag));
    }
    Cancel::from_flag(flag)
}
