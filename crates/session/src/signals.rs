//! ^C and similar signals while a job is running. At other times they end the program as usual.

use std::sync::Arc;
use std::sync::atomic::AtomicBool;

use pinewrit_batch::Control;
use pinewrit_core::Cancel;
use signal_hook::consts::{SIGHUP, SIGINT, SIGTERM};

use pinewrit_ui::Exit;

/// The first ^C asks for an orderly end; the second ends the program at once.
pub fn watch() -> Cancel {
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

/// The first ^C begins no new media, the second stops everything in an orderly way, the third ends
/// the program at once.
pub fn watch_twice(control: &Control) {
    let signals = [SIGHUP, SIGINT, SIGTERM].into_iter();
    let watched: Vec<i32> = signals.filter(|signal| !is_ignored(*signal)).collect();
    // If the system refuses, ^C ends the program as usual.
    let Ok(mut signals) = signal_hook::iterator::Signals::new(watched) else {
        return;
    };
    let control = control.clone();
    // It ends with the program.
    std::thread::spawn(move || {
        for (count, signal) in (1..).zip(signals.forever()) {
            match count {
                // A terminal that is gone does not come back.
                1 if signal == SIGINT => control.close(),
                1 | 2 if !control.cancel.is_cancelled() => control.cancel.cancel(),
                _ => {
                    let _ = signal_hook::low_level::emulate_default_handler(signal);
                }
            }
        }
    });
}
