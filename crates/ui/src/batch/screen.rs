//! The screen of a batch: a row for each medium, what is done and left below, and what to do next at
//! the bottom. Without a terminal, plain lines.

use std::io::IsTerminal;
use std::sync::Mutex;
use std::time::{Duration, Instant};

use indicatif::{MultiProgress, ProgressBar, ProgressDrawTarget, ProgressStyle};
use pinewrit_core::{Observer, Progress, Stage};

use crate::progress::{Samples, left_text, stage_word};
use crate::text::printable;
use crate::{Ui, units};

const STEPS: u64 = 10_000;
/// The interval between two states of a row.
const EVERY: Duration = Duration::from_millis(120);
/// Longer names of units are cut, in characters.
const MAX_UNIT: usize = 18;

/// The screen.
pub struct BenchScreen {
    ui: Ui,
    rows: MultiProgress,
    /// What is done and left.
    tally: Option<ProgressBar>,
    /// What to do next.
    prompt: Option<ProgressBar>,
    bell: bool,
}

impl BenchScreen {
    /// On standard error.
    pub fn new(ui: Ui, bell: bool) -> Self {
        let rows = MultiProgress::with_draw_target(ProgressDrawTarget::stderr());
        let is_shown = std::io::stderr().is_terminal() && !ui.json && !ui.quiet;
        let line = || {
            let line = ProgressBar::new(1).with_style(plain("{msg}"));
            rows.add(line)
        };
        Self {
            ui,
            tally: is_shown.then(line),
            prompt: is_shown.then(line),
            rows,
            bell,
        }
    }

    /// Whether rows are drawn.
    pub fn is_drawn(&self) -> bool {
        self.prompt.is_some()
    }

    /// A line that stays.
    pub fn line(&self, text: &str) {
        let text = crate::text::safe(text).to_string();
        match &self.prompt {
            Some(_) => self.rows.suspend(|| self.ui.warn(format!("{text}\n"))),
            None => self.ui.say(format!("{text}\n")),
        }
    }

    /// As [`BenchScreen::line`], and somebody should look.
    pub fn call(&self, text: &str) {
        self.line(text);
        if self.bell && std::io::stderr().is_terminal() {
            self.rows.suspend(|| self.ui.ring());
        }
    }

    /// What is done and left, and what to do next. Without a terminal, the latter is a line.
    pub fn next(&self, tally: &str, prompt: &str) {
        match (&self.tally, &self.prompt) {
            (Some(line), Some(below)) => {
                line.set_message(tally.to_owned());
                below.set_message(prompt.to_owned());
            }
            _ => self.ui.say(format!("{prompt}  ({tally})\n")),
        }
    }

    /// The row of a medium; it disappears when dropped.
    pub fn row(&self, unit: &str, tag: &str) -> BenchRow {
        let bar = self.tally.as_ref().map(|below| {
            let bar = ProgressBar::with_draw_target(Some(STEPS), ProgressDrawTarget::hidden());
            let style = plain("{prefix} {wide_bar:.green/dim} {msg:31}");
            self.rows
                .insert_before(below, bar.with_style(style.progress_chars("█▓░")))
        });
        let unit: String = printable(unit).chars().take(MAX_UNIT).collect();
        let row = BenchRow {
            name: format!("{unit:<12} {tag:<6}"),
            state: Mutex::new(RowState {
                bar,
                stage: None,
                shown: None,
                samples: Samples::default(),
            }),
        };
        row.draw(&mut row.lock(), None);
        row
    }

    /// Takes everything off the screen but the lines.
    pub fn close(&self) {
        for line in [&self.tally, &self.prompt].into_iter().flatten() {
            line.finish_and_clear();
        }
    }
}

fn plain(template: &str) -> ProgressStyle {
    ProgressStyle::with_template(template).unwrap_or_else(|_| ProgressStyle::default_bar())
}

/// A medium's row.
pub struct BenchRow {
    name: String,
    state: Mutex<RowState>,
}

struct RowState {
    bar: Option<ProgressBar>,
    stage: Option<Stage>,
    shown: Option<Instant>,
    samples: Samples,
}

impl BenchRow {
    fn lock(&self) -> std::sync::MutexGuard<'_, RowState> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }

    fn draw(&self, state: &mut RowState, progress: Option<Progress>) {
        let pace = state.samples.pace();
        let Some(bar) = &state.bar else { return };
        let stage = state.stage.map_or("waiting", stage_word);
        bar.set_prefix(format!("{} {stage:<9}", self.name));
        match progress {
            Some(progress) => {
                bar.set_position((progress.fraction() * STEPS as f64) as u64);
                let percent = progress.fraction() * 100.0;
                let rate = format!("{}/s", units::size(pace.bytes_per_second));
                let left = pace.left.map_or(String::new(), left_text);
                bar.set_message(format!("{percent:3.0} %  {rate:>10}  {left}"));
            }
            None => bar.set_message(String::new()),
        }
    }
}

impl Observer for BenchRow {
    fn stage(&self, stage: Stage, _: Option<u64>) {
        let mut state = self.lock();
        state.stage = Some(stage);
        state.samples = Samples::default();
        state.shown = None;
        self.draw(&mut state, None);
        if let Some(bar) = &state.bar {
            let begins = matches!(stage, Stage::Write | Stage::Verify | Stage::Clear);
            bar.set_position(if begins { 0 } else { STEPS });
        }
    }

    fn progress(&self, progress: Progress) {
        let mut state = self.lock();
        let now = Instant::now();
        state.samples.add(now, progress);
        if state.shown.is_none_or(|shown| now - shown >= EVERY) {
            state.shown = Some(now);
            self.draw(&mut state, Some(progress));
        }
    }
}

impl Drop for BenchRow {
    fn drop(&mut self) {
        if let Some(bar) = &self.lock().bar {
            bar.finish_and_clear();
        }
    }
}
