//! Starts the emulator, and watches what becomes of it.

use std::io::{self, Read};
use std::net::{Ipv4Addr, SocketAddr};
use std::os::unix::net::UnixStream;
use std::path::{Path, PathBuf};
use std::sync::Mutex;
use std::time::{Duration, Instant};

use pinewrit_core::Cancel;
use pinewrit_disk::{BlockDevice, ByteRange};
use schemars::JsonSchema;
use serde::Serialize;
use serde_json::json;

use super::emulator::{Emulator, free_port};
use super::machine::{Machine, Network};
use super::monitor::{Monitor, Power, connect};
use crate::commission::{Point, Seen, WAIT, Wanted, compare, script};
use crate::ssh::{Greeting, Login, SshError, greet};
use crate::watch::{Console, Ended, Listener, WatchRequest, watch};
use crate::{Line, Progress, Stage};

/// How long the emulator itself takes to start.
const START: Duration = Duration::from_secs(20);
/// How often somebody looks.
const LOOK: Duration = Duration::from_millis(100);
/// How often somebody knocks at the SSH server.
const KNOCK: Duration = Duration::from_secs(2);
/// How long a system takes to switch itself off.
const OFF: Duration = Duration::from_secs(90);
/// A system that began anew so often goes round in circles.
const ROUNDS: u32 = 5;

/// What is waited for.
#[derive(Clone, Debug)]
pub enum Aim {
    /// A login prompt on the console.
    Prompt,
    /// An SSH server that answers.
    Ssh,
    /// A login by SSH, and that the system is as it should be.
    Settings(Box<Login>),
}

/// What is tried, and in which machine.
pub struct TrialRequest<'a> {
    /// The raw medium: a file or a block device. It is never written.
    pub medium: &'a Path,
    /// The size of the disk in the machine, in bytes.
    pub size: u64,
    /// What is laid over it for the trial: a view of the medium, and where it differs.
    pub over: (&'a dyn BlockDevice, Vec<ByteRange>),
    /// The machine.
    pub machine: Machine,
    /// Kernel, initrd, and command line, if the emulator starts the kernel itself.
    pub kernel: Option<(PathBuf, Option<PathBuf>, String)>,
    /// Its network.
    pub network: Network,
    /// The port of its SSH server.
    pub ssh_port: u16,
    /// What is waited for.
    pub aim: Aim,
    /// What the system should be.
    pub wanted: Wanted<'a>,
    /// Whether it is started once more.
    pub second_boot: bool,
    /// How long one start may take.
    pub timeout: Duration,
    /// Where the screen is saved at the end.
    pub picture: Option<&'a Path>,
    /// The time here, in seconds since 1970.
    pub now: fn() -> i64,
}

/// Is told what happens.
pub trait Observer: Send {
    /// A line of the console.
    fn line(&mut self, line: &Line, at: Duration);
    /// A stage has begun.
    fn stage(&mut self, stage: Stage, at: Duration);
    /// Something else: `SSH answers`.
    fn news(&mut self, what: News, at: Duration);
}

/// What else happens in a trial.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case")]
pub enum News {
    /// The SSH server answers.
    SshAnswers,
    /// Somebody was logged in, and work of the first start goes on.
    FirstStart,
    /// The system is switched off, for a second start.
    SwitchedOff,
    /// It does not switch itself off; its power is cut.
    PowerCut,
    /// It is started once more.
    SecondBoot,
}

/// How a trial ended.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
#[serde(rename_all = "kebab-case", tag = "outcome")]
pub enum Outcome {
    /// It came up.
    Up,
    /// It cannot come up.
    Fails {
        /// Why; `None` if the emulator ended.
        because: Option<crate::End>,
        /// What the console said.
        line: Option<String>,
    },
    /// It starts again and again.
    GoesRound {
        /// How often.
        times: u32,
    },
    /// It came up, but nobody is let in.
    NoLogin {
        /// Why.
        why: String,
    },
    /// It came up with another host key than it should have.
    OtherHostKey {
        /// The fingerprint that it should have.
        wanted: String,
        /// The one that it has.
        found: String,
    },
    /// It did not come up in time.
    Late {
        /// What was still missing: its prompt, or SSH.
        missing: String,
    },
    /// The trial was stopped.
    Stopped,
}

/// What came of a trial.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct TrialReport {
    /// How it ended.
    #[serde(flatten)]
    pub outcome: Outcome,
    /// How far it came.
    pub stage: Option<Stage>,
    /// The last line of the console.
    pub last: Option<String>,
    /// When the login prompt came, in seconds from power-on.
    pub prompt_after: Option<u64>,
    /// When the SSH server answered.
    pub ssh_after: Option<u64>,
    /// How long everything took, in seconds.
    pub seconds: u64,
    /// How often it started.
    pub boots: u32,
    /// What was compared.
    pub points: Vec<Point>,
}

/// Why nothing could be tried.
#[derive(Debug, thiserror::Error)]
pub enum TrialError {
    /// A file for the trial cannot be written, or the medium cannot be read.
    #[error("the files for the trial cannot be made")]
    Files(#[source] io::Error),
    /// What the system writes does not fit where temporary files are.
    #[error("there is no more room for what the system writes")]
    NoRoom,
    /// The emulator does not start.
    #[error("the emulator does not start: {0}")]
    Emulator(String),
}

/// What the console has said so far.
#[derive(Default)]
struct Heard {
    progress: Progress,
    last: Option<String>,
    prompt: Option<Duration>,
    failed: Option<Ended>,
}

/// Tries a medium.
///
/// # Errors
/// [`TrialError`]; a system that does not come up is none.
pub fn trial(
    request: &TrialRequest<'_>,
    observer: &mut dyn Observer,
    cancel: &Cancel,
) -> Result<TrialReport, TrialError> {
    let folder = tempfile::tempdir().map_err(TrialError::Files)?;
    Emulator::prepare(request, folder.path()).map_err(TrialError::Files)?;
    let trial = Trial {
        request,
        folder: folder.path(),
        observer: Mutex::new(observer),
        cancel,
        begun: Instant::now(),
    };
    let mut boot = trial.boot(request.second_boot)?;
    let (prompt, ssh) = (boot.heard.prompt, boot.ssh);
    let mut boots = 1;
    if request.second_boot && boot.outcome == Outcome::Up {
        boots = 2;
        trial.tell(News::SecondBoot);
        boot = trial.boot(false)?;
    }
    Ok(TrialReport {
        outcome: boot.outcome,
        stage: boot.heard.progress.stage(),
        last: boot.heard.last,
        prompt_after: prompt.map(|at| at.as_secs()),
        ssh_after: ssh.map(|at| at.as_secs()),
        seconds: trial.begun.elapsed().as_secs(),
        boots,
        points: boot.points,
    })
}

/// The hardware address of the machine, unless the settings name one; of those that everybody may give out (IEEE 802, "locally administered").
pub const HARDWARE: &str = "02:00:00:77:00:02";

struct Listening<'t, 'o> {
    heard: &'t Mutex<Heard>,
    observer: &'t Mutex<&'o mut dyn Observer>,
    begun: Instant,
}

impl Listener for Listening<'_, '_> {
    fn bytes(&mut self, _: &[u8]) {}

    fn line(&mut self, line: &Line, _: Duration) {
        let at = self.begun.elapsed();
        lock(self.observer).line(line, at);
        let mut heard = lock(self.heard);
        let began = heard.progress.take(&line.text);
        heard.last = Some(line.text.clone());
        if heard.progress.stage() == Some(Stage::Login) && heard.prompt.is_none() {
            heard.prompt = Some(at);
        }
        drop(heard);
        if let Some(stage) = began {
            lock(self.observer).stage(stage, at);
        }
    }

    fn stage(&mut self, _: Stage, _: Duration) {}

    fn hint(&mut self, _: &crate::Hint) {}

    fn typed(&mut self) -> Option<Vec<u8>> {
        Some(Vec::new())
    }
}

fn lock<T: ?Sized>(mutex: &Mutex<T>) -> std::sync::MutexGuard<'_, T> {
    mutex.lock().unwrap_or_else(|e| e.into_inner())
}

/// The emulator's serial port.
struct Wire(UnixStream);

impl Console for Wire {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self.0.read(buffer) {
            Ok(0) => Err(io::ErrorKind::UnexpectedEof.into()),
            Err(error)
                if matches!(
                    error.kind(),
                    io::ErrorKind::WouldBlock | io::ErrorKind::TimedOut
                ) =>
            {
                Ok(0)
            }
            read => read,
        }
    }

    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        io::Write::write_all(&mut self.0, bytes)
    }

    fn set_rate(&mut self, _: u32) -> io::Result<()> {
        Ok(())
    }
}

/// Listens to the console until the trial is over; after an end that is final it listens on, for a
/// second start.
fn listen(console: UnixStream, mut listening: Listening<'_, '_>, over: &Cancel) {
    let heard = listening.heard;
    let request = WatchRequest {
        rate: 115_200,
        finds_rate: false,
        until: Vec::new(),
        fail: Vec::new(),
        ends_at_failures: true,
        timeout: None,
        silence: Duration::from_secs(3600),
        sends: Vec::new(),
    };
    while !over.is_cancelled() {
        let mut open = |_: u32| console.try_clone().ok().map(Wire);
        let report = watch(&mut open, &request, &mut listening, over);
        lock(heard).failed = Some(report.ended);
        if over.is_cancelled() {
            return;
        }
        std::thread::sleep(LOOK);
    }
}

/// What stays from one start to the next.
struct Trial<'t, 'r, 'o> {
    request: &'t TrialRequest<'r>,
    folder: &'t Path,
    observer: Mutex<&'o mut dyn Observer>,
    cancel: &'t Cancel,
    begun: Instant,
}

/// What came of a start.
struct Boot {
    outcome: Outcome,
    heard: Heard,
    ssh: Option<Duration>,
    points: Vec<Point>,
}

impl Trial<'_, '_, '_> {
    fn tell(&self, what: News) {
        lock(&self.observer).news(what, self.begun.elapsed());
    }

    /// Switches the machine on. What came up is switched off properly if there is another start.
    fn boot(&self, is_again: bool) -> Result<Boot, TrialError> {
        let port = free_port().map_err(TrialError::Files)?;
        let mut emulator = Emulator::start(self.request, self.folder, port)?;
        let console = connect(&self.folder.join("console"), START).map_err(|_| emulator.why())?;
        console
            .set_read_timeout(Some(LOOK))
            .map_err(TrialError::Files)?;
        let mut monitor =
            Monitor::connect(&self.folder.join("monitor"), START).map_err(|_| emulator.why())?;
        monitor
            .order("cont", json!({}))
            .map_err(|_| emulator.why())?;
        let heard = Mutex::new(Heard::default());
        let over = Cancel::default();
        let mut run = Running {
            trial: self,
            heard: &heard,
            since: Instant::now(),
            door: SocketAddr::from((Ipv4Addr::LOCALHOST, port)),
            ssh: None,
            points: Vec::new(),
        };
        let outcome = std::thread::scope(|scope| {
            let listening = Listening {
                heard: &heard,
                observer: &self.observer,
                begun: self.begun,
            };
            scope.spawn(|| listen(console, listening, &over));
            let outcome = run.one(&mut emulator, &mut monitor);
            if let Some(picture) = self.request.picture {
                // Some machines have no screen; the result is the same.
                let _ = monitor.picture(picture);
            }
            let off = match is_again && matches!(outcome, Ok(Outcome::Up)) {
                true => self.switch_off(&mut emulator, &mut monitor),
                false => Ok(()),
            };
            // Whatever came of it, nobody listens any longer.
            over.cancel();
            off.map_err(|_| emulator.why())?;
            outcome
        })?;
        let (ssh, points) = (run.ssh.map(|(at, _)| at), run.points);
        Ok(Boot {
            outcome,
            heard: heard.into_inner().unwrap_or_else(|e| e.into_inner()),
            ssh,
            points,
        })
    }

    /// Switches the system off, and ends the machine: in this emulator, what starts after a reset is slow.
    fn switch_off(&self, emulator: &mut Emulator, monitor: &mut Monitor) -> io::Result<()> {
        monitor.order("system_powerdown", json!({}))?;
        let end = Instant::now() + OFF;
        let mut is_off = false;
        while Instant::now() < end
            && !is_off
            && !self.cancel.is_cancelled()
            && !emulator.has_ended()
        {
            std::thread::sleep(LOOK * 5);
            is_off = monitor.power()? == Power::Off;
        }
        self.tell(match is_off {
            true => News::SwitchedOff,
            false => News::PowerCut,
        });
        monitor.order("quit", json!({}))?;
        emulator.wait();
        Ok(())
    }
}

struct Running<'t, 'r, 'o> {
    trial: &'t Trial<'t, 'r, 'o>,
    heard: &'t Mutex<Heard>,
    /// When this start began.
    since: Instant,
    door: SocketAddr,
    /// When its SSH server answered, counted from the first start, and what it says to everybody.
    ssh: Option<(Duration, Greeting)>,
    points: Vec<Point>,
}

impl Running<'_, '_, '_> {
    /// Waits for what is to come, once.
    fn one(
        &mut self,
        emulator: &mut Emulator,
        monitor: &mut Monitor,
    ) -> Result<Outcome, TrialError> {
        let mut knocked: Option<Instant> = None;
        let mut is_told = false;
        let mut looked = Instant::now();
        loop {
            if looked.elapsed() >= KNOCK {
                looked = Instant::now();
                match monitor.power().unwrap_or(Power::On) {
                    Power::On => {}
                    Power::Stuck => return Err(TrialError::NoRoom),
                    // A system that gives up may switch the machine off.
                    Power::Off => {
                        return Ok(Outcome::Fails {
                            because: None,
                            line: lock(self.heard).last.clone(),
                        });
                    }
                }
            }
            if self.trial.cancel.is_cancelled() {
                return Ok(Outcome::Stopped);
            }
            if let Some(outcome) = self.ended(emulator) {
                return Ok(outcome);
            }
            let is_late = self.since.elapsed() >= self.trial.request.timeout;
            match &self.trial.request.aim {
                Aim::Prompt if lock(self.heard).prompt.is_some() => return Ok(Outcome::Up),
                Aim::Prompt => {}
                Aim::Ssh | Aim::Settings(_) if knocked.is_none_or(|at| at.elapsed() >= KNOCK) => {
                    if let Some(outcome) = self.knock(is_late, &mut is_told) {
                        return Ok(outcome);
                    }
                    knocked = Some(Instant::now());
                }
                _ => {}
            }
            if is_late {
                return Ok(self.late());
            }
            std::thread::sleep(LOOK);
        }
    }

    fn late(&self) -> Outcome {
        let missing = match self.trial.request.aim {
            Aim::Prompt => "a login prompt",
            _ => "an answer of its SSH server",
        };
        Outcome::Late {
            missing: missing.to_owned(),
        }
    }

    /// Whether it cannot go on.
    fn ended(&self, emulator: &mut Emulator) -> Option<Outcome> {
        let heard = lock(self.heard);
        if let Some(Ended::Failed { because, line }) = &heard.failed {
            return Some(Outcome::Fails {
                because: *because,
                line: Some(line.clone()),
            });
        }
        let times = heard.progress.restarts();
        if times >= ROUNDS {
            return Some(Outcome::GoesRound { times });
        }
        let last = heard.last.clone();
        drop(heard);
        emulator.has_ended().then_some(Outcome::Fails {
            because: None,
            line: last,
        })
    }

    /// Asks the SSH server; `None` as long as there is something to wait for.
    fn knock(&mut self, is_late: bool, is_told: &mut bool) -> Option<Outcome> {
        let greeting = self.greeting()?;
        let request = self.trial.request;
        let Aim::Settings(login) = &request.aim else {
            return Some(self.by_key(&greeting));
        };
        // Nobody else is in the machine: the key that it has is the right one, if none is recorded.
        let own = greeting.key.as_ref().map(|key| format!("trial {key}"));
        let login = Login {
            known_hosts: login.known_hosts.clone().or(own),
            address: Some(self.door.ip()),
            port: Some(self.door.port()),
            ..(**login).clone()
        };
        let user = login.user.as_deref();
        let wait = if is_late { Duration::ZERO } else { WAIT };
        let script = script(&request.wanted.users(), request.wanted.has_sudo(user), wait);
        match login.run(&script, self.trial.cancel) {
            Ok(session) => {
                let seen = Seen::parse(&session.output);
                if seen.is_at_first_start() == Some(true) && !is_late {
                    if !std::mem::replace(is_told, true) {
                        self.trial.tell(News::FirstStart);
                    }
                    return None;
                }
                self.points = compare(&request.wanted, &session, (request.now)());
                Some(Outcome::Up)
            }
            Err(SshError::OtherHostKey { wanted, found, .. }) => Some(Outcome::OtherHostKey {
                wanted,
                found: found.or(greeting.host_key).unwrap_or_default(),
            }),
            // Accounts may be made after the server has started.
            Err(SshError::Refused { .. } | SshError::NoAnswer { .. } | SshError::Other { .. })
                if !is_late =>
            {
                None
            }
            Err(error) => Some(Outcome::NoLogin {
                why: error.to_string(),
            }),
        }
    }

    /// What its SSH server says to everybody. Every handshake costs an emulated machine seconds: one is enough.
    fn greeting(&mut self) -> Option<Greeting> {
        if let Some((_, greeting)) = &self.ssh {
            return Some(greeting.clone());
        }
        let greeting = greet(self.door, KNOCK).ok()?;
        greeting.host_key.as_ref()?;
        self.ssh = Some((self.trial.begun.elapsed(), greeting.clone()));
        self.trial.tell(News::SshAnswers);
        Some(greeting)
    }

    /// Without a login, the host key is what can be compared.
    fn by_key(&self, greeting: &Greeting) -> Outcome {
        let wanted = self
            .trial
            .request
            .wanted
            .known_hosts
            .and_then(crate::ssh::fingerprint_in);
        match (wanted, &greeting.host_key) {
            (Some(wanted), Some(found)) if wanted != *found => Outcome::OtherHostKey {
                wanted,
                found: found.clone(),
            },
            _ => Outcome::Up,
        }
    }
}
