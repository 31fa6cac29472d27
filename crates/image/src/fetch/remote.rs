//! A file on a server, as packed bytes.

use std::collections::VecDeque;
use std::io::{self, Read};
use std::path::PathBuf;
use std::sync::atomic::{AtomicBool, AtomicU64, Ordering};
use std::sync::{Arc, Condvar, Mutex, MutexGuard};
use std::thread;
use std::time::{Duration, Instant};

use crossbeam_channel::RecvTimeoutError;
use ureq::Agent;

use super::answer::{Answer, Version};
use super::connection::{self, Arrival, Wanted};
use super::glance::StartOnly;
use super::keep::{Kept, Place};
use super::recent::Recent;
use super::start::{IN_MEMORY, Start};
use super::streams::{State, Stream};
use super::{FetchError, FetchOptions, FetchStats, in_io};
use crate::Location;
use crate::packed::{PackedBytes, PackedReader};

/// Size of the first request in bytes: enough to recognise the file.
const FIRST: u64 = 64 << 10;
/// Size of the end of the file that is fetched at once, in bytes: it holds indexes and directories.
const TAIL: u64 = 64 << 10;
/// Up to this many bytes are read and discarded rather than requested again.
const SMALL_GAP: u64 = 256 << 10;
/// How often a waiting reader checks whether it should stop.
const LOOK: Duration = Duration::from_millis(50);
/// Files beside the image that are read, and how long that may take.
const MAX_SIBLING: u64 = 1 << 20;
const SIBLING_PATIENCE: Duration = Duration::from_secs(10);
const FIRST_PAUSE: Duration = Duration::from_millis(200);
const LONGEST_PAUSE: Duration = Duration::from_secs(5);

/// An opened file on a server.
#[derive(Debug)]
pub(crate) struct Remote {
    url: String,
    agent: Agent,
    patience: Duration,
    version: Version,
    /// The server supports range requests.
    gives_parts: bool,
    place: Option<Place>,
    state: Mutex<State>,
    /// Marks a reader as no longer busy.
    freed: Condvar,
    stop: AtomicBool,
    fetched: AtomicU64,
    resumed: AtomicU64,
    kept: u64,
    unconfirmed: bool,
}

impl Remote {
    /// Asks for the file at `url`.
    ///
    /// # Errors
    /// A [`StreamError`] with the [`FetchError`].
    pub(crate) fn open(url: &str, options: &FetchOptions) -> io::Result<Self> {
        let name = Location::Url(url.to_owned()).name();
        let cache = options.cache.as_ref();
        let place = cache.map(|cache| Place::new(cache, url, &name));
        let kept = place.as_ref().and_then(Place::find);
        // A part of a file is only useful if it will be completed.
        let kept = kept.filter(|kept| kept.is_complete || options.keep);
        let agent = connection::agent(url, options).map_err(|error| in_io(error, 0))?;
        let mut remote = Self {
            url: url.to_owned(),
            agent,
            patience: options.patience,
            version: Version::default(),
            gives_parts: false,
            place: place.filter(|_| options.keep),
            state: Mutex::new(State {
                start: Start::Memory(Vec::new()),
                tail: None,
                streams: Vec::new(),
                recent: Recent::default(),
                busy: Vec::new(),
                keep_failed: None,
            }),
            freed: Condvar::new(),
            stop: AtomicBool::new(false),
            fetched: AtomicU64::new(0),
            resumed: AtomicU64::new(0),
            kept: 0,
            unconfirmed: false,
        };
        remote.begin(kept).map_err(|error| in_io(error, 0))?;
        remote.read_first()?;
        Ok(remote)
    }

    /// The first request, which reveals version and size.
    fn begin(&mut self, kept: Option<Kept>) -> Result<(), FetchError> {
        let wanted = match &kept {
            Some(kept) if kept.is_complete => Wanted::Newer(kept.version.clone()),
            Some(kept) => Wanted::Part {
                start: kept.len,
                end: None,
            },
            None => Wanted::Part {
                start: 0,
                end: Some(FIRST),
            },
        };
        let arrivals = connection::begin(&self.agent, &self.url, wanted);
        let mut stream = Stream::new(arrivals, 0, None);
        let answer = match (self.wait_for_answer(&mut stream), &kept) {
            (Ok(answer), _) => answer,
            (Err(error), Some(kept)) if kept.is_complete && error.is_offline() => {
                self.unconfirmed = true;
                not_modified(kept)
            }
            // The existing part reaches past the end of the current file.
            (Err(FetchError::Status { status: 416 }), Some(_)) => return self.begin(None),
            (Err(error), _) => return Err(error),
        };
        if let Some(kept) = kept {
            let is_whole_again = kept.is_complete && !answer.is_part && answer.version.has_mark();
            let is_same = answer.not_modified
                || is_whole_again && answer.version.may_be(&kept.version)
                || answer.is_part
                    && answer.start == kept.len
                    && answer.version.may_be(&kept.version);
            if !is_same {
                return self.begin(None);
            }
            stream.position = kept.len;
            self.gives_parts = answer.is_part;
            self.kept = kept.len;
            self.version = kept.version;
            let state = self.state.get_mut().unwrap_or_else(|e| e.into_inner());
            state.start = Start::File(kept.file, kept.len);
            if answer.is_part {
                state.streams.push(stream);
            }
            return Ok(());
        }
        if answer.start != 0 {
            return Err(FetchError::Answer {
                detail: format!("when asked for the start, it sent byte {}", answer.start),
            });
        }
        self.version = answer.version;
        self.gives_parts = answer.is_part;
        stream.end = answer.is_part.then_some(FIRST);
        let state = self.state.get_mut().unwrap_or_else(|e| e.into_inner());
        if let Some(place) = &self.place {
            match place.begin(&self.version) {
                Ok(file) => state.start = Start::File(file, 0),
                Err(error) => state.keep_failed = Some(error),
            }
        }
        state.streams.push(stream);
        Ok(())
    }

    /// Reads what the first request asked for.
    fn read_first(&self) -> io::Result<()> {
        let mut buffer = vec![0; FIRST as usize];
        loop {
            let position = self.lock().start.len();
            if position >= FIRST || !self.gives_parts || self.read_at(&mut buffer, position)? == 0 {
                return Ok(());
            }
        }
    }

    /// How many of its first bytes are kept.
    pub(super) fn kept_start(&self) -> u64 {
        self.lock().start.len()
    }

    fn lock(&self) -> MutexGuard<'_, State> {
        self.state.lock().unwrap_or_else(|e| e.into_inner())
    }

    /// The progress so far.
    pub(crate) fn stats(&self) -> FetchStats {
        FetchStats {
            fetched: self.fetched.load(Ordering::Relaxed),
            kept: self.kept,
            resumed: self.resumed.load(Ordering::Relaxed),
            unconfirmed: self.unconfirmed,
        }
    }

    /// Makes all waiting readers give up, for good.
    pub(crate) fn interrupt(&self) {
        self.stop.store(true, Ordering::Relaxed);
    }

    /// A view that requests nothing beyond what is kept.
    pub(crate) fn start_only(self: &Arc<Self>) -> StartOnly {
        StartOnly::new(Arc::clone(self))
    }

    /// Fetches what is missing and keeps the file, if requested.
    pub(crate) fn keep(&self) -> io::Result<Option<PathBuf>> {
        let Some(place) = &self.place else {
            return Ok(None);
        };
        let is_complete = |state: &State| self.version.size == Some(state.start.len());
        if is_complete(&self.lock()) && place.path().exists() {
            return Ok(Some(place.path()));
        }
        let mut buffer = vec![0; 1 << 20];
        loop {
            let position = {
                let mut state = self.lock();
                if let Some(error) = state.keep_failed.take() {
                    return Err(error);
                }
                state.start.len()
            };
            let len = self.read_at(&mut buffer, position)?;
            if len == 0 {
                break;
            }
            self.lock().keep(&buffer[..len], position);
        }
        match &self.lock().start {
            Start::File(file, len) => place.finish(file, *len, &self.version).map(Some),
            Start::Memory(_) => Ok(None),
        }
    }

    /// The text of a small file in the same folder of the server; `None` if there is none.
    pub(crate) fn read_sibling(&self, name: &str) -> Option<String> {
        String::from_utf8(self.read_sibling_bytes(name)?).ok()
    }

    /// A small file in the same folder of the server; `None` if there is none.
    pub(crate) fn read_sibling_bytes(&self, name: &str) -> Option<Vec<u8>> {
        let url = sibling(&self.url, name)?;
        let options = FetchOptions {
            patience: self.patience.min(SIBLING_PATIENCE),
            ..FetchOptions::default()
        };
        let remote = Arc::new(Self::open(&url, &options).ok()?);
        if remote.version.size.is_some_and(|size| size > MAX_SIBLING) {
            return None;
        }
        let mut bytes = Vec::new();
        let mut reader = PackedReader::new(remote).take(MAX_SIBLING);
        reader.read_to_end(&mut bytes).ok()?;
        Some(bytes)
    }

    /// The next arrival, unless it takes longer than `patience` or somebody wants to stop.
    fn receive(&self, stream: &Stream, patience: Duration) -> Result<Arrival, FetchError> {
        let began = Instant::now();
        loop {
            match stream.arrivals.recv_timeout(LOOK) {
                Ok(Arrival::Failed(error)) => return Err(error),
                Ok(arrival) => return Ok(arrival),
                Err(RecvTimeoutError::Disconnected) => {
                    let detail = "it ended".to_owned();
                    return Err(FetchError::Cut { detail });
                }
                Err(RecvTimeoutError::Timeout) => {}
            }
            if self.stop.load(Ordering::Relaxed) {
                return Err(FetchError::Stopped);
            }
            if began.elapsed() >= patience {
                let seconds = self.patience.as_secs();
                return Err(FetchError::Silent { seconds });
            }
        }
    }

    fn wait_for_answer(&self, stream: &mut Stream) -> Result<Answer, FetchError> {
        match self.receive(stream, self.patience)? {
            Arrival::Answer(answer) => Ok(answer),
            _ => Err(FetchError::Answer {
                detail: "content without a header".to_owned(),
            }),
        }
    }

    /// Some bytes from a stream; `None` at its end.
    fn take(&self, stream: &mut Stream, buffer: &mut [u8]) -> Result<Option<usize>, FetchError> {
        loop {
            let rest = &stream.block[stream.used..];
            if !rest.is_empty() {
                let dropped = rest
                    .len()
                    .min(usize::try_from(stream.drop).unwrap_or(usize::MAX));
                stream.drop -= dropped as u64;
                let rest = &rest[dropped..];
                let again = rest.len().min(stream.known.len());
                if !stream
                    .known
                    .drain(..again)
                    .eq(rest[..again].iter().copied())
                {
                    return Err(FetchError::Changed);
                }
                stream.position += again as u64;
                let rest = &rest[again..];
                let len = rest.len().min(buffer.len());
                buffer[..len].copy_from_slice(&rest[..len]);
                stream.used += dropped + again + len;
                stream.position += len as u64;
                if len > 0 {
                    return Ok(Some(len));
                }
                continue;
            }
            // Several attempts fit into the patience.
            match self.receive(stream, self.patience / 3)? {
                Arrival::Data(block) => {
                    self.fetched
                        .fetch_add(block.len() as u64, Ordering::Relaxed);
                    stream.block = block;
                    stream.used = 0;
                }
                Arrival::Answer(answer) => self.check(stream, &answer)?,
                Arrival::End => return Ok(None),
                Arrival::Failed(error) => return Err(error),
            }
        }
    }

    /// Checks that an answer continues where the last one ended, in the same version of the file.
    fn check(&self, stream: &mut Stream, answer: &Answer) -> Result<(), FetchError> {
        let lost_its_mark = self.version.has_mark() && !answer.version.has_mark();
        if !answer.version.may_be(&self.version) || lost_its_mark {
            return Err(FetchError::Changed);
        }
        // A server that sends everything again is slow, but not wrong.
        let before = stream.position.checked_sub(answer.start);
        let before = before.filter(|before| *before == 0 || !answer.is_part);
        stream.drop = before.ok_or_else(|| FetchError::Answer {
            detail: format!(
                "asked for byte {}, it sent byte {}",
                stream.position, answer.start
            ),
        })?;
        Ok(())
    }

    /// The stream that comes to `offset` next, or a new one.
    fn stream_at(&self, offset: u64, end: Option<u64>) -> Stream {
        let mut state = self.lock();
        let reaches = |stream: &Stream| {
            stream.drop == 0 && stream.position <= offset && offset - stream.position <= SMALL_GAP
        };
        if let Some(index) = state.streams.iter().position(reaches) {
            let mut stream = state.streams.remove(index);
            stream.drop = offset - stream.position;
            stream.position = offset;
            return stream;
        }
        let known = if self.version.has_mark() {
            VecDeque::new()
        } else {
            state.known_before(offset)
        };
        drop(state);
        let start = offset - known.len() as u64;
        let arrivals = connection::begin(&self.agent, &self.url, Wanted::Part { start, end });
        Stream {
            known,
            ..Stream::new(arrivals, start, end)
        }
    }

    /// Some bytes at `offset`, from streams that end at `end`.
    fn fetch(&self, buffer: &mut [u8], offset: u64, end: Option<u64>) -> io::Result<usize> {
        self.lock().busy.push(offset);
        let fetched = self.fetch_lastingly(buffer, offset, end);
        let mut state = self.lock();
        if let Some(index) = state.busy.iter().position(|at| *at == offset) {
            state.busy.swap_remove(index);
        }
        drop(state);
        self.freed.notify_all();
        fetched
    }

    /// Restores broken connections until nothing has arrived for too long.
    fn fetch_lastingly(
        &self,
        buffer: &mut [u8],
        offset: u64,
        end: Option<u64>,
    ) -> io::Result<usize> {
        let began = Instant::now();
        let mut pause = FIRST_PAUSE;
        loop {
            let mut stream = self.stream_at(offset, end);
            let error = match self.take(&mut stream, buffer) {
                Ok(Some(len)) => {
                    let mut state = self.lock();
                    state.keep(&buffer[..len], offset);
                    if !self.version.has_mark() {
                        state.recent.remember(&buffer[..len], offset);
                    }
                    state.put_back(stream);
                    return Ok(len);
                }
                // Nothing more was requested.
                Ok(None) if stream.end == Some(offset) => continue,
                Ok(None) | Err(FetchError::Status { status: 416 })
                    if self.version.size.is_none() =>
                {
                    return Ok(0);
                }
                Ok(None) => FetchError::Cut {
                    detail: "the server ended it".to_owned(),
                },
                Err(error) => error,
            };
            if !error.is_passing() || began.elapsed() + pause >= self.patience {
                return Err(in_io(error, offset));
            }
            self.resumed.fetch_add(1, Ordering::Relaxed);
            self.sleep(pause);
            pause = (pause * 2).min(LONGEST_PAUSE);
        }
    }

    fn sleep(&self, pause: Duration) {
        let until = Instant::now() + pause;
        while Instant::now() < until && !self.stop.load(Ordering::Relaxed) {
            thread::sleep(LOOK.min(until.saturating_duration_since(Instant::now())));
        }
    }

    /// Where the tail begins, for files that have one apart from their start.
    fn tail_at(&self) -> Option<u64> {
        let size = self.version.size.filter(|_| self.gives_parts)?;
        let at = size.checked_sub(TAIL)?;
        (at > FIRST).then_some(at)
    }

    /// Fetches the tail, once.
    fn fetch_tail(&self, at: u64) -> io::Result<()> {
        let mut tail = vec![0; TAIL as usize];
        let mut done = 0;
        while done < tail.len() {
            match self.fetch(&mut tail[done..], at + done as u64, self.version.size)? {
                0 => break,
                len => done += len,
            }
        }
        tail.truncate(done);
        self.lock().tail = Some(tail);
        Ok(())
    }
}

/// The address of another file in the same folder. Addresses with a query have no folder.
fn sibling(url: &str, name: &str) -> Option<String> {
    let (folder, own) = url.rsplit_once('/')?;
    let is_plain = !url.contains(['?', '#']) && !own.is_empty() && !folder.ends_with('/');
    is_plain.then(|| format!("{folder}/{name}"))
}

fn not_modified(kept: &Kept) -> Answer {
    Answer {
        version: kept.version.clone(),
        start: 0,
        is_part: false,
        not_modified: true,
    }
}

impl PackedBytes for Remote {
    fn size(&self) -> Option<u64> {
        self.version.size
    }

    fn read_at(&self, buffer: &mut [u8], offset: u64) -> io::Result<usize> {
        if buffer.is_empty() || self.version.size.is_some_and(|size| offset >= size) {
            return Ok(0);
        }
        let tail_at = self.tail_at();
        let mut state = self.lock();
        let (in_order, has_tail) = loop {
            if let Some(copied) = state.copy(buffer, offset, tail_at) {
                return copied;
            }
            // Another reader is fetching these very bytes, and they will be kept.
            let follows = state.busy.contains(&offset) && state.start.len() == offset;
            if !follows || offset >= IN_MEMORY {
                break (state.has_stream_at(offset), state.tail.is_some());
            }
            let waited = self.freed.wait_timeout(state, LOOK);
            state = waited.unwrap_or_else(|e| e.into_inner()).0;
        };
        drop(state);
        if let Some(at) = tail_at.filter(|at| offset >= *at && !in_order) {
            self.fetch_tail(at)?;
            let copied = self.lock().copy(buffer, offset, tail_at);
            return copied.unwrap_or(Ok(0));
        }
        // The tail is not requested twice.
        let end = tail_at.filter(|_| has_tail);
        let left = end.map_or(u64::MAX, |end| end.saturating_sub(offset));
        let wanted = buffer
            .len()
            .min(usize::try_from(left).unwrap_or(usize::MAX));
        self.fetch(&mut buffer[..wanted], offset, end)
    }

    fn can_jump(&self) -> bool {
        self.gives_parts || self.version.size == Some(self.lock().start.len())
    }

    fn is_near(&self, offset: u64) -> bool {
        let is_kept = offset < self.lock().start.len();
        is_kept || self.tail_at().is_some_and(|at| offset >= at)
    }
}
