//! Templates run in a process of their own, with limits enforced by the system: filters, operators
//! and blocks can all double a text with a few characters until no memory is left.

use std::fs::File;
use std::io::{self, Read, Write};
use std::os::fd::{AsFd, OwnedFd};

use nix::errno::Errno;
use nix::sys::resource::{Resource, setrlimit};
use nix::sys::signal::Signal;
use nix::sys::wait::{WaitStatus, waitpid};
use nix::unistd::{ForkResult, dup2_stderr, fork, pipe};

use super::MAX_RESULT;

/// Memory in addition to what the program already has, in bytes.
const MEMORY: u64 = 64 << 20;
/// Processor time, in seconds.
const SECONDS: u64 = 10;

/// Why a template has no result: what is wrong, and the line, if known.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Fault {
    pub(super) what: String,
    pub(super) line: Option<usize>,
}

/// The outcome.
enum Run {
    Ended(Result<String, Fault>),
    OutOfMemory,
    OutOfTime,
}

/// Runs `work` with at most `fuel` steps, within the limits. If memory runs out, the responsible
/// step is searched for, to report its line.
///
/// # Errors
/// The error of `work`, or that it exceeded the limits.
pub(super) fn run(fuel: u64, work: &dyn Fn(u64) -> Result<String, Fault>) -> Result<String, Fault> {
    let in_child = |fuel| in_child(&|| work(fuel)).map_err(|error| not_run(&error));
    match in_child(fuel)? {
        Run::Ended(result) => return result,
        Run::OutOfTime => {
            return Err(Fault {
                what: format!("it exceeds {SECONDS} seconds"),
                line: None,
            });
        }
        Run::OutOfMemory => {}
    }
    let (mut fits, mut bursts) = (0, fuel);
    let mut line = None;
    while bursts - fits > 1 {
        let middle = fits + (bursts - fits) / 2;
        match in_child(middle)? {
            Run::Ended(result) => {
                fits = middle;
                line = result.err().and_then(|fault| fault.line);
            }
            _ => bursts = middle,
        }
    }
    Err(Fault {
        what: format!("it exceeds {} MiB of memory", MEMORY >> 20),
        line,
    })
}

fn not_run(error: &io::Error) -> Fault {
    Fault {
        what: format!("it cannot be run: {error}"),
        line: None,
    }
}

fn in_child(work: &dyn Fn() -> Result<String, Fault>) -> io::Result<Run> {
    let (reading, writing) = pipe()?;
    // SAFETY: the child shares no memory with this process. It allocates, which the C library
    // allows after a fork even with other threads, writes to the pipe, and ends with `_exit`
    // without running anything else of this process; it takes none of our locks.
    match unsafe { fork() }? {
        ForkResult::Child => {
            drop(reading);
            be_child(writing, work)
        }
        ForkResult::Parent { child } => {
            drop(writing);
            let mut answer = Vec::new();
            let limit = MAX_RESULT as u64 + 4096;
            let read = File::from(reading).take(limit).read_to_end(&mut answer);
            let status = loop {
                match waitpid(child, None) {
                    Err(Errno::EINTR) => {}
                    // If our parent ignores SIGCHLD, there is no exit status, and the answer has to
                    // do.
                    Err(Errno::ECHILD) if !answer.is_empty() => {
                        break WaitStatus::Exited(child, 0);
                    }
                    status => break status?,
                }
            };
            read?;
            Ok(match status {
                WaitStatus::Exited(_, 0) => Run::Ended(decode(&answer)),
                WaitStatus::Signaled(_, Signal::SIGXCPU | Signal::SIGKILL, _) => Run::OutOfTime,
                _ => Run::OutOfMemory,
            })
        }
    }
}

fn be_child(writing: OwnedFd, work: &dyn Fn() -> Result<String, Fault>) -> ! {
    let ended = bound().and_then(|()| {
        let answer = encode(work());
        File::from(writing).write_all(&answer)
    });
    let code = i32::from(ended.is_err());
    // SAFETY: ends this process at once; its buffers and locks belong to the parent.
    unsafe { nix::libc::_exit(code) }
}

/// Sets the limits, and prints nothing when they are reached.
fn bound() -> io::Result<()> {
    let page = rustix::param::page_size() as u64;
    let statm = std::fs::read_to_string("/proc/self/statm")?;
    let pages = statm
        .split(' ')
        .next()
        .and_then(|pages| pages.parse::<u64>().ok());
    let pages = pages.ok_or(io::ErrorKind::InvalidData)?;
    let memory = pages.saturating_mul(page).saturating_add(MEMORY);
    setrlimit(Resource::RLIMIT_AS, memory, memory)?;
    setrlimit(Resource::RLIMIT_CPU, SECONDS, SECONDS + 1)?;
    // Memory contains secrets.
    setrlimit(Resource::RLIMIT_CORE, 0, 0)?;
    dup2_stderr(File::options().write(true).open("/dev/null")?.as_fd())?;
    Ok(())
}

/// A byte for the outcome, four for the line, then the text.
fn encode(result: Result<String, Fault>) -> Vec<u8> {
    let (kind, line, text) = match result {
        Ok(text) => (0, None, text),
        Err(fault) => (1, fault.line, fault.what),
    };
    let line = line.map_or(0, |line| u32::try_from(line).unwrap_or(0));
    let mut answer = vec![kind];
    answer.extend(line.to_le_bytes());
    answer.extend(text.into_bytes());
    answer
}

fn decode(answer: &[u8]) -> Result<String, Fault> {
    let Some(([kind, line @ ..], text)) = answer.split_first_chunk::<5>() else {
        return Err(Fault {
            what: "it produced no result".to_owned(),
            line: None,
        });
    };
    let text = String::from_utf8_lossy(text).into_owned();
    let line = u32::from_le_bytes(*line);
    match kind {
        0 => Ok(text),
        _ => Err(Fault {
            what: text,
            line: (line > 0).then_some(line as usize),
        }),
    }
}
