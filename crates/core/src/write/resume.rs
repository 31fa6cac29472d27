//! Which interrupted writes can be resumed, and the notes that record them.

use std::io;
use std::sync::Mutex;
use std::time::{Duration, Instant};

use pinewrit_disk::DiskError;
use pinewrit_image::ImageSource;

use super::report::WriteError;
use super::request::Destination;
use crate::state::StateFolder;
use crate::unfinished::UnfinishedWrite;
use crate::{Observer, Progress, Stage};

/// How often the note of an unfinished write is updated.
const NOTE_EVERY: Duration = Duration::from_secs(3);

/// Whether each of the media has the beginning of this image from an earlier write.
pub fn can_resume(source: &ImageSource, media: &[Destination]) -> bool {
    let (name, sizes) = (source.name(), sizes(source));
    media.iter().all(|medium| {
        let note = medium.note.as_ref();
        note.is_some_and(|note| note.is_of(&name, sizes))
    })
}

/// Whether the same write can be resumed after an error: it was only interrupted. With a bad medium
/// or a wrong image, it cannot.
pub(super) fn leaves_a_beginning(error: &WriteError) -> bool {
    let is_gone = |error: &DiskError| {
        let cause = error.io().and_then(io::Error::raw_os_error);
        // ENXIO and ENODEV: it was pulled.
        matches!(cause, Some(6 | 19))
    };
    match error {
        WriteError::Cancelled
        | WriteError::Source(_)
        | WriteError::Configure(_)
        | WriteError::AsNew(_)
        | WriteError::Renew(_) => true,
        WriteError::Disk(error) | WriteError::Dead(error) => is_gone(error),
        _ => false,
    }
}

/// Sizes by which an image is recognised: packed and unpacked, in bytes.
fn sizes(source: &ImageSource) -> (Option<u64>, Option<u64>) {
    (source.packed_size(), source.unpacked_size().exact())
}

/// Passes on events, and keeps the note of the unfinished write up to date.
pub(super) struct NoteKeeper<'a> {
    inner: &'a dyn Observer,
    store: Option<&'a StateFolder>,
    state: Mutex<NoteState>,
}

struct NoteState {
    note: UnfinishedWrite,
    saved: Option<Instant>,
    is_writing: bool,
    /// Whether notes can be kept.
    works: bool,
}

impl<'a> NoteKeeper<'a> {
    /// Begins a note. If it cannot be kept, the observer is informed.
    pub(super) fn begin(
        inner: &'a dyn Observer,
        store: Option<&'a StateFolder>,
        source: &ImageSource,
        (key, size): (&str, u64),
        begun: &str,
    ) -> Self {
        let note = UnfinishedWrite {
            version: UnfinishedWrite::VERSION,
            image: source.name(),
            image_name: source.name(),
            image_sizes: sizes(source),
            medium: key.to_owned(),
            medium_size: size,
            begun: begun.to_owned(),
            done: 0,
            total: None,
        };
        let kept = save(store, &note);
        if let Err(error) = &kept {
            inner.not_remembered(error);
        }
        Self {
            inner,
            store,
            state: Mutex::new(NoteState {
                note,
                saved: None,
                is_writing: false,
                works: kept.is_ok(),
            }),
        }
    }

    /// Leaves the note in its current state; returns whether there is one.
    pub(super) fn end(self) -> bool {
        let state = self.state.into_inner().unwrap_or_else(|e| e.into_inner());
        state.works && save(self.store, &state.note).is_ok()
    }
}

fn save(store: Option<&StateFolder>, note: &UnfinishedWrite) -> io::Result<()> {
    store.ok_or(io::ErrorKind::NotFound)?.save_note(note)
}

impl Observer for NoteKeeper<'_> {
    fn may_finish(&self) -> bool {
        self.inner.may_finish()
    }

    fn stage(&self, stage: Stage, total: Option<u64>) {
        let mut state = self.state.lock().unwrap_or_else(|e| e.into_inner());
        state.is_writing = stage == Stage::Write;
        drop(state);
        self.inner.stage(stage, total);
    }

    fn progress(&self, progress: Progress) {
        let mut state = self.state.lock().unwrap_or_else(|e| e.into_inner());
        if state.is_writing {
            state.note.done = progress.done;
            state.note.total = progress.total;
            let is_due = state
                .saved
                .is_none_or(|saved| saved.elapsed() >= NOTE_EVERY);
            if state.works && is_due {
                state.works = save(self.store, &state.note).is_ok();
                state.saved = Some(Instant::now());
            }
        }
        drop(state);
        self.inner.progress(progress);
    }
}
