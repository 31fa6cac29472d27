//! The progress bar, its plain form for logs, and its events for programs.

use std::collections::VecDeque;
use std::io::IsTerminal;
use std::sync::atomic::{AtomicU64, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressStyle};
use pinewrit_core::{Observer, Progress, Stage};
use schemars::JsonSchema;
use serde::Serialize;

use super::text::printable;
use super::{Ui, units};
use crate::{Event, MediumName};

/// Shorter work shows nothing.
const PATIENCE: Duration = Duration::from_millis(250);
/// The interval between two events of `--json`.
const EVENT_EVERY: Duration = Duration::from_millis(500);
/// The interval between two lines without a terminal.
const LINE_EVERY: Duration = Duration::from_secs(5);
/// The rate is averaged over this time.
const RATE_OVER: Duration = Duration::from_secs(3);
const STEPS: u64 = 10_000;
/// A shorter pause does not count, in seconds.
const PAUSE_FROM: f64 = 1.0;

/// The bars of several parallel jobs.
pub struct Screen(MultiProgress);

impl Screen {
    /// Standard error, without bars yet.
    pub fn on_stderr() -> Self {
        Self(MultiProgress::with_draw_target(ProgressDrawTarget::stderr()))
    }
}

/// Shows the progress of a job.
pub struct ProgressView {
    ui: Ui,
    terminal: bool,
    /// The medium's name, if there are several.
    name: Option<String>,
    id: Option<MediumName>,
    /// Writing is the first of two parts, reading back the second.
    reads_back: bool,
    screen: MultiProgress,
    state: Mutex<State>,
}

struct State {
    stage: Option<Stage>,
    began: Instant,
    shown: Instant,
    samples: Samples,
    bar: Option<ProgressBar>,
}

/// A stage of the job begins.
#[derive(Serialize, JsonSchema)]
pub struct StageEvent<'a> {
    /// The medium, if several are written: its path and tag.
    #[serde(flatten)]
    medium: Option<&'a MediumName>,
    stage: Stage,
    /// Its size in bytes, as far as known.
    total: Option<u64>,
}

impl Event for StageEvent<'_> {
    const EVENT: &'static str = "stage";
}

/// The progress, a few times a second.
#[derive(Serialize, JsonSchema)]
pub struct ProgressEvent<'a> {
    /// The medium, if several are written: its path and tag.
    #[serde(flatten)]
    medium: Option<&'a MediumName>,
    stage: Stage,
    /// Bytes done.
    done: u64,
    /// Used bytes in total, as far as known.
    total: Option<u64>,
    /// 0 to 1, of the whole job.
    fraction: f64,
    bytes_per_second: u64,
    /// Remaining seconds, once known.
    seconds_left: Option<u64>,
    /// How long the medium has been silent.
    waiting_seconds: f64,
}

impl Event for ProgressEvent<'_> {
    const EVENT: &'static str = "progress";
}

impl ProgressView {
    /// The progress of the only job.
    pub fn new(ui: Ui) -> Self {
        Self::on(&Screen::on_stderr(), ui, None, false)
    }

    /// One of several on a screen, with the medium's name.
    pub fn on(
        screen: &Screen,
        ui: Ui,
        medium: Option<(String, MediumName)>,
        reads_back: bool,
    ) -> Self {
        let now = Instant::now();
        let (name, id) = medium.unzip();
        let name = name.map(|name| printable(&name));
        let terminal = std::io::stderr().is_terminal();
        // The bars are in the order of the media, whichever begins first.
        let is_shown = terminal && !ui.json && !ui.quiet;
        let bar = name.as_ref().filter(|_| is_shown).map(|name| {
            let bar = screen.0.add(new_bar());
            bar.set_prefix(format!("{name:<8} {:<13}", ""));
            bar
        });
        Self {
            ui,
            terminal,
            name,
            id,
            reads_back,
            screen: screen.0.clone(),
            state: Mutex::new(State {
                stage: None,
                began: now,
                shown: now,
                samples: Samples::default(),
                bar,
            }),
        }
    }

    fn lock(&self) -> std::sync::MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }

    fn show(&self, state: &mut State, stage: Stage, progress: Progress) {
        let pace = state.samples.pace();
        if self.ui.json {
            self.ui.event(&ProgressEvent {
                medium: self.id.as_ref(),
                stage,
                done: progress.done,
                total: progress.total,
                fraction: progress.fraction(),
                bytes_per_second: pace.bytes_per_second,
                seconds_left: pace.left.map(|left| left.as_secs()),
                waiting_seconds: progress.waiting_seconds,
            });
        } else if self.ui.quiet {
            // Nothing is shown.
        } else if self.terminal {
            let bar = state.bar.get_or_insert_with(|| self.screen.add(new_bar()));
            bar.set_prefix(self.prefix(stage));
            bar.set_position((progress.fraction() * STEPS as f64) as u64);
            bar.set_message(numbers(progress, &pace));
        } else {
            let percent = progress.fraction() * 100.0;
            let numbers = numbers(progress, &pace);
            let prefix = self.prefix(stage);
            self.ui
                .say(format!("{prefix:<13} {percent:3.0} %  {numbers}\n"));
        }
    }

    /// The stage, after the name if there are several media.
    fn prefix(&self, stage: Stage) -> String {
        let part = match stage {
            Stage::Write if self.reads_back => "1/2 ",
            Stage::Verify if self.reads_back => "2/2 ",
            _ => "",
        };
        let text = format!("{part}{}", stage_word(stage));
        match &self.name {
            Some(name) => format!("{name:<8} {text:<13}"),
            None => text,
        }
    }

    fn interval(&self) -> Duration {
        match (self.ui.json, self.terminal) {
            (true, _) => EVENT_EVERY,
            (false, true) => Duration::from_millis(100),
            (false, false) => LINE_EVERY,
        }
    }
}

/// The rate over the last seconds.
pub(crate) struct Pace {
    pub(crate) bytes_per_second: u64,
    pub(crate) left: Option<Duration>,
}

/// What was done when, over the last seconds.
#[derive(Default)]
pub(crate) struct Samples(VecDeque<(Instant, u64, f64)>);

impl Samples {
    pub(crate) fn add(&mut self, now: Instant, progress: Progress) {
        self.0.push_back((now, progress.done, progress.fraction()));
        while self.0.len() > 2 && self.0.front().is_some_and(|(at, ..)| now - *at > RATE_OVER) {
            self.0.pop_front();
        }
    }

    pub(crate) fn pace(&self) -> Pace {
        let ends = self.0.front().zip(self.0.back());
        let Some((first, last)) = ends.filter(|(first, last)| last.0 > first.0) else {
            return Pace {
                bytes_per_second: 0,
                left: None,
            };
        };
        let seconds = (last.0 - first.0).as_secs_f64();
        let per_second = (last.2 - first.2) / seconds;
        let left = (1.0 - last.2) / per_second;
        Pace {
            bytes_per_second: (last.1.saturating_sub(first.1) as f64 / seconds) as u64,
            left: Duration::try_from_secs_f64(left).ok(),
        }
    }
}

fn numbers(progress: Progress, pace: &Pace) -> String {
    let done = units::size(progress.done);
    let amount = match progress.total {
        Some(total) => format!("{done:>9} of {}", units::size(total)),
        None => format!("{done:>9} unpacked"),
    };
    if progress.waiting_seconds >= PAUSE_FROM {
        let seconds = progress.waiting_seconds;
        return format!("{amount}  the medium pauses, {seconds:.0} s");
    }
    let rate = format!("{}/s", units::size(pace.bytes_per_second));
    let left = pace.left.map_or(String::new(), left_text);
    format!("{amount}  {rate:>11}  {left}")
}

/// The remaining time; an estimate has no use for tenths of a second.
pub(crate) fn left_text(left: Duration) -> String {
    match left.as_secs() {
        seconds @ 0..10 => format!("{} s left", seconds + 1),
        seconds => format!("{} left", units::time(Duration::from_secs(seconds))),
    }
}

fn new_bar() -> ProgressBar {
    let bar = ProgressBar::with_draw_target(Some(STEPS), ProgressDrawTarget::stderr());
    let template = "{prefix:<13} {wide_bar:.green/dim} {msg:51}";
    if let Ok(style) = ProgressStyle::with_template(template) {
        bar.set_style(style.progress_chars("█▓░"));
    }
    bar
}

/// A sign of life during work of unknown length. It disappears when dropped.
pub struct Waiting(ProgressBar);

impl Waiting {
    /// Shows `what` after a while, on a terminal.
    pub fn new(ui: &Ui, what: String) -> Self {
        let target = if ui.json || ui.quiet {
            ProgressDrawTarget::hidden()
        } else {
            ProgressDrawTarget::stderr()
        };
        let spinner = ProgressBar::new_spinner().with_message(printable(&what));
        spinner.set_draw_target(target);
        spinner.enable_steady_tick(PATIENCE);
        Self(spinner)
    }
}

impl Waiting {
    /// Shows the progress of something that may begin meanwhile: `what`, once there is a total.
    pub fn watch(&self, what: String, done: &Arc<AtomicU64>, total: &Arc<AtomicU64>) {
        let (bar, done, total) = (self.0.clone(), Arc::clone(done), Arc::clone(total));
        let what = printable(&what);
        std::thread::spawn(move || {
            while !bar.is_finished() {
                std::thread::sleep(PATIENCE);
                let (now, all) = (done.load(Ordering::Relaxed), total.load(Ordering::Relaxed));
                if now == 0 {
                    continue;
                }
                let text = match all {
                    0 => format!("{what}: {}", units::size(now)),
                    all => {
                        let filled = (now.min(all) * 24 / all) as usize;
                        let (full, empty) = ("━".repeat(filled), "─".repeat(24 - filled));
                        let (now, all) = (units::size(now), units::size(all));
                        format!("{what}  {full}{empty}  {now} of {all}")
                    }
                };
                bar.set_message(text);
            }
        });
    }
}

impl Drop for Waiting {
    fn drop(&mut self) {
        self.0.finish_and_clear();
    }
}

/// The stage in words.
pub(crate) fn stage_word(stage: Stage) -> &'static str {
    match stage {
        Stage::Fetch => "fetching",
        Stage::Clear => "clearing",
        Stage::Write => "writing",
        Stage::Flush => "flushing",
        Stage::Verify => "verifying",
        Stage::Configure => "settings",
        Stage::Finish => "finishing",
        Stage::Compare => "comparing",
        Stage::Rescue => "reading",
        Stage::CloseIn => "closing in",
        Stage::Move => "moving",
        Stage::Keep => "keeping",
        Stage::Mark => "marking",
        Stage::ReadMarks => "reading",
        Stage::PutBack => "putting back",
        Stage::TimeReading => "reading",
        Stage::TimeWriting => "writing",
        _ => "working",
    }
}

impl Observer for ProgressView {
    fn stage(&self, stage: Stage, total: Option<u64>) {
        self.ui.event(&StageEvent {
            medium: self.id.as_ref(),
            stage,
            total,
        });
        let now = Instant::now();
        let mut state = self.lock();
        state.stage = Some(stage);
        state.samples = Samples::default();
        state.shown = now;
        if let Some(bar) = &state.bar {
            // Flushing can take a long time on a slow medium: it must not look stuck.
            bar.set_prefix(self.prefix(stage));
            bar.set_message(String::new());
            bar.set_position(match stage {
                Stage::Fetch
                | Stage::Write
                | Stage::Verify
                | Stage::Compare
                | Stage::Rescue
                | Stage::CloseIn
                | Stage::Move
                | Stage::Mark
                | Stage::ReadMarks
                | Stage::TimeReading
                | Stage::TimeWriting => 0,
                _ => STEPS,
            });
            bar.tick();
        }
    }

    fn progress(&self, progress: Progress) {
        let now = Instant::now();
        let mut state = self.lock();
        state.samples.add(now, progress);
        let Some(stage) = state.stage else { return };
        let patient = now - state.began < PATIENCE;
        if patient || now - state.shown < self.interval() {
            return;
        }
        state.shown = now;
        self.show(&mut state, stage, progress);
    }
}

impl Drop for ProgressView {
    fn drop(&mut self) {
        if let Some(bar) = &self.lock().bar {
            bar.finish_and_clear();
        }
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    fn state() -> State {
        let now = Instant::now();
        State {
            stage: None,
            began: now,
            shown: now,
            samples: Samples::default(),
            bar: None,
        }
    }

    fn progress(done: u64, total: Option<u64>) -> Progress {
        Progress {
            done,
            total,
            source_done: done / 10,
            source_total: 100,
            waiting_seconds: 0.0,
        }
    }

    #[test]
    fn the_rate_is_that_of_the_last_seconds() {
        let mut state = state();
        let start = Instant::now();
        // Ten fast seconds, then three at 10 bytes a second.
        for second in 0..10 {
            let now = start + Duration::from_secs(second);
            state.samples.add(now, progress(second * 50, Some(1000)));
        }
        for second in 0..4 {
            let now = start + Duration::from_secs(10 + second);
            state
                .samples
                .add(now, progress(500 + second * 10, Some(1000)));
        }
        let pace = state.samples.pace();
        assert_eq!(pace.bytes_per_second, 10);
        assert_eq!(pace.left.map(|left| left.as_secs()), Some(47));
    }

    #[test]
    fn without_a_known_size_the_source_tells_what_is_left() {
        let mut state = state();
        let start = Instant::now();
        state.samples.add(start, progress(0, None));
        state
            .samples
            .add(start + Duration::from_secs(1), progress(250, None));
        assert_eq!(state.samples.pace().left, Some(Duration::from_secs(3)));
    }

    #[test]
    fn a_standstill_has_no_remaining_time() {
        let mut state = state();
        let start = Instant::now();
        state.samples.add(start, progress(10, Some(100)));
        state
            .samples
            .add(start + Duration::from_secs(2), progress(10, Some(100)));
        assert!(state.samples.pace().left.is_none());
        assert_eq!(state.samples.pace().bytes_per_second, 0);
    }
}
