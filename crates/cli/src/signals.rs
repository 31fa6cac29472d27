//! ^C and similar signals while a job is running. At other times they end the program as usual.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use pinewrit_core::Cancel;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};

use pinewrit_ui::Exit;

/// The first ^C asks for an orderly end; the second ends the program at once.
pub(crate) fn watch() -> Cancel {
    let flag = Arc::new(AtomicBool::new(false));
    let signals = [SIGHUP, SIGINT, SIGTERM].into_iter();
    for signal in signals.filter(|signal| !is_ignored(*signal)) {
        let interrupted = i32::from(Exit::Interrupted.code());
        // If the system refuses, ^C ends the program as usual.
        let _ = signal_hook::flag::register_conditional_shutdown(
            signal,
            interrupted,
            Arc::clone(&flag),
        );
        let _ = signal_hook::flag::register(signal, Arc::clone(&flag));
    }
    Cancel::from_flag(flag)
}

/// Whether the caller wants a signal to be ignored, as with `nohup` (proc(5), `SigIgn` in
/// `/proc/self/status`).
fn is_ignored(signal: i32) -> bool {
    let status = std::fs::read_to_string("/proc/self/status").unwrap_or_default();
    let mask = status.lines().find_map(|line| {
        let mask = line.strip_prefix("SigIgn:")?.trim();
        u64::from_str_radix(mask, 16).ok()
    });
    mask.is_some_and(|mask| mask >> (signal - 1) & 1 == 1)
}
