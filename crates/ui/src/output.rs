//! Standard output, which may be closed or full.

use std::io::{self, ErrorKind, Write};
use std::sync::Mutex;

/// Why nothing more can be written, after a failure.
static FAILURE: Mutex<Option<io::Error>> = Mutex::new(None);

/// Records that something could not be written.
fn note(error: io::Error) {
    let mut failure = FAILURE.lock().unwrap_or_else(|e| e.into_inner());
    failure.get_or_insert(error);
}

fn has_failed() -> bool {
    let failure = FAILURE.lock().unwrap_or_else(|e| e.into_inner());
    failure.is_some()
}

/// Writes by `write`, unless it has failed before.
pub(crate) fn write(write: impl FnOnce() -> io::Result<()>) {
    if !has_failed()
        && let Err(error) = write()
    {
        note(error);
    }
}

/// Why a part of the result is lost. A reader that stops early, such as `head`, loses nothing.
pub fn failure() -> Option<io::Error> {
    write(|| io::stdout().flush());
    let mut failure = FAILURE.lock().unwrap_or_else(|e| e.into_inner());
    failure
        .take()
        .filter(|error| error.kind() != ErrorKind::BrokenPipe)
}

/// A sink for a file's content that tells its own failures from those of the source.
pub struct Sink<W> {
    inner: W,
    failure: Option<io::Error>,
}

impl<W: Write> Sink<W> {
    /// Passes on to `inner`.
    pub fn new(inner: W) -> Self {
        Self {
            inner,
            failure: None,
        }
    }

    /// Whether everything was taken; `false` if the reader stopped early.
    pub fn end(mut self) -> io::Result<bool> {
        let failure = match self.failure.take() {
            Some(error) => Err(error),
            None => self.inner.flush(),
        };
        match failure {
            Err(error) if error.kind() == ErrorKind::BrokenPipe => Ok(false),
            other => other.map(|()| true),
        }
    }

    /// Whether writing has failed.
    pub fn has_failed(&self) -> bool {
        self.failure.is_some()
    }

    fn keep<T>(&mut self, result: io::Result<T>) -> io::Result<T> {
        result.map_err(|error| {
            let kind = error.kind();
            self.failure.get_or_insert(error);
            kind.into()
        })
    }
}

impl<W: Write> Write for Sink<W> {
    fn write(&mut self, bytes: &[u8]) -> io::Result<usize> {
        match self.inner.write(bytes) {
            Err(error) if error.kind() == ErrorKind::Interrupted => Err(error),
            result => self.keep(result),
        }
    }

    fn flush(&mut self) -> io::Result<()> {
        let result = self.inner.flush();
        self.keep(result)
    }
}
