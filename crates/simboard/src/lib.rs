//! A stand-in for a board, for rehearsals and tests: it looks at its card as a board's ROM would, tells its start on a
//! console, and answers multicast DNS and SSH on the loopback interface with what is on the card. It runs no program of
//! the card, and says so.

mod console;
mod content;
mod network;
mod seed;
mod server;

use std::collections::BTreeSet;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::sync::{Arc, Mutex};
use std::time::{Duration, Instant};

use mdns_sd::{IfKind, ServiceDaemon, ServiceInfo};
use pinewrit_boards::chain::Verdict;
use pinewrit_boards::{Board, Extent, judge};
use pinewrit_boot::find::SERVICE;
use pinewrit_disk::{BlockDevice, DiskError};
use pinewrit_host::BoardFault;
use ring::rand::{SecureRandom, SystemRandom};

use console::Console;
use content::Content;
use server::SshServer;

/// Lines of a start.
const LOOK: Duration = Duration::from_millis(20);

/// A board that is switched on.
#[derive(Clone, Debug)]
pub struct PowerOn {
    /// The kind of board, if it is known.
    pub kind: Option<Board>,
    /// How long its start takes.
    pub start: Duration,
    /// The rate of its console, in bits a second.
    pub rate: u32,
    /// Its hardware address.
    pub hardware: String,
    /// How it misbehaves.
    pub faults: BTreeSet<BoardFault>,
}

/// Why a board could not be switched on.
#[derive(Debug, thiserror::Error)]
pub enum SimError {
    /// Its card could not be read.
    #[error("the card could not be read")]
    Card(#[from] DiskError),
    /// The system has no terminal or port for it.
    #[error("the system gives it no console or port")]
    Io(#[from] std::io::Error),
    /// Multicast DNS does not work here.
    #[error("multicast DNS does not work on the loopback interface")]
    Mdns(#[from] mdns_sd::Error),
}

/// How far a board has come.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum State {
    /// It starts.
    Starting,
    /// It stands still, and why.
    Stopped(String),
    /// It is up; the port of its SSH server, if it can be reached.
    Up(Option<u16>),
}

/// A running board. It is switched off when dropped.
pub struct Running {
    console: PathBuf,
    stop: Arc<AtomicBool>,
    state: Arc<Mutex<State>>,
    thread: Option<std::thread::JoinHandle<()>>,
}

impl Running {
    /// Where its console is.
    pub fn console(&self) -> &Path {
        &self.console
    }

    /// How far it has come.
    pub fn state(&self) -> State {
        self.state.lock().unwrap_or_else(|e| e.into_inner()).clone()
    }

    /// Waits until it is up or stands still, but no longer than this.
    pub fn settled(&self, patience: Duration) -> State {
        let begun = Instant::now();
        while self.state() == State::Starting && begun.elapsed() < patience {
            std::thread::sleep(LOOK);
        }
        self.state()
    }
}

impl Drop for Running {
    fn drop(&mut self) {
        self.stop.store(true, Ordering::Relaxed);
        if let Some(thread) = self.thread.take() {
            // It has nothing more to tell.
            let _ = thread.join();
        }
    }
}

/// Switches a board on. `card` is what is in it; `None` if there is none.
///
/// # Errors
/// [`SimError`]. A board that does not start is none: its console says why.
pub fn power_on(request: PowerOn, card: Option<&dyn BlockDevice>) -> Result<Running, SimError> {
    let has = |fault| request.faults.contains(&fault);
    let card = card.filter(|_| !has(BoardFault::LooseCard));
    let trouble = trouble(&request, card)?;
    let content = match (card, &trouble) {
        (Some(card), None) => Content::read(card, &request.hardware)?,
        _ => None,
    };
    let console = Console::new(request.rate, has(BoardFault::Garbage))?;
    let mut running = Running {
        console: console.path().clone(),
        stop: Arc::default(),
        state: Arc::new(Mutex::new(State::Starting)),
        thread: None,
    };
    let mut sim = Sim {
        request,
        console,
        content,
        trouble,
        stop: Arc::clone(&running.stop),
        state: Arc::clone(&running.state),
    };
    running.thread = Some(std::thread::spawn(move || sim.run()));
    Ok(running)
}

/// Why the ROM finds nothing to start.
fn trouble(request: &PowerOn, card: Option<&dyn BlockDevice>) -> Result<Option<String>, DiskError> {
    let Some(card) = card else {
        return Ok(Some("no card is seen".to_owned()));
    };
    if request.faults.contains(&BoardFault::WrongLoader) {
        return Ok(Some("the loader is for another processor".to_owned()));
    }
    if let Some(kind) = &request.kind {
        let ready = judge(kind, card, Extent::Medium(card.size()))?;
        if ready.verdict == Verdict::DoesNotStart {
            return Ok(Some(format!(
                "nothing that a {} starts from is on the card",
                kind.name
            )));
        }
    }
    Ok(None)
}

struct Sim {
    request: PowerOn,
    console: Console,
    content: Option<Content>,
    trouble: Option<String>,
    stop: Arc<AtomicBool>,
    state: Arc<Mutex<State>>,
}

impl Sim {
    fn run(&mut self) {
        let name = self
            .request
            .kind
            .as_ref()
            .map_or("board", |kind| &kind.name)
            .to_owned();
        let step = self.request.start / 8;
        let mut lines = vec![
            format!("{name} (a stand-in: no program of the card runs)"),
            "Booting from SD".to_owned(),
        ];
        if let Some(why) = &self.trouble {
            lines.push(format!("no bootable device: {why}"));
            self.tell(&lines, step);
            return self.stand_still(why.clone());
        }
        lines.push("Loading Linux from the card".to_owned());
        lines.push("[    0.000000] Linux version 6.1.0-stand-in".to_owned());
        let Some(content) = self.content.take() else {
            let why = "there is no root file system";
            lines.push("[    1.000000] VFS: Unable to mount root fs".to_owned());
            lines.push(
                "[    1.000100] Kernel panic - not syncing: VFS: Unable to mount root fs"
                    .to_owned(),
            );
            self.tell(&lines, step);
            return self.stand_still(why.to_owned());
        };
        lines.push("[    1.200000] Run /sbin/init as init process".to_owned());
        lines.push(format!("Welcome to {}!", content.system));
        lines.push("pinewrit: first start (stand-in)".to_owned());
        self.tell(&lines, step);
        let host_name = content.host_name.clone();
        // The server answers before the prompt is there.
        let up = self.serve(content);
        self.console.send(&format!("\r\n{host_name} login: "));
        let (server, daemon) = match up {
            Ok(up) => up,
            Err(error) => return self.stand_still(error.to_string()),
        };
        self.set(State::Up(server.as_ref().map(|server| server.port)));
        while !self.stop.load(Ordering::Relaxed) {
            if self.console.ignore_input() {
                self.console.send(&format!("\r\n{host_name} login: "));
            }
            std::thread::sleep(LOOK);
        }
        drop(server);
        if let Some(daemon) = daemon {
            // It goes with the program.
            let _ = daemon.shutdown();
        }
    }

    fn tell(&self, lines: &[String], step: Duration) {
        for line in lines {
            if self.stop.load(Ordering::Relaxed) {
                return;
            }
            self.console.send(&format!("{line}\r\n"));
            let end = Instant::now() + step;
            while Instant::now() < end && !self.stop.load(Ordering::Relaxed) {
                std::thread::sleep(LOOK.min(step));
            }
        }
    }

    fn set(&self, state: State) {
        *self.state.lock().unwrap_or_else(|e| e.into_inner()) = state;
    }

    fn stand_still(&self, why: String) {
        self.set(State::Stopped(why));
        while !self.stop.load(Ordering::Relaxed) {
            std::thread::sleep(LOOK);
        }
    }

    /// Answers names and logins, as far as the board can be reached.
    fn serve(
        &self,
        mut content: Content,
    ) -> Result<(Option<SshServer>, Option<ServiceDaemon>), SimError> {
        if self.request.faults.contains(&BoardFault::NoNetwork) {
            return Ok((None, None));
        }
        if self.request.faults.contains(&BoardFault::EndlessFirstStart) {
            content.set("units", vec!["starting".to_owned()]);
            content.set(
                "first-start",
                vec!["service ActiveState=active SubState=running".to_owned()],
            );
        }
        let host_name = content.host_name.clone();
        let server = self.ssh(content)?;
        let daemon = ServiceDaemon::new()?;
        daemon.disable_interface(IfKind::All)?;
        daemon.enable_interface(IfKind::LoopbackV4)?;
        let host = format!("{host_name}.local.");
        let port = server.as_ref().map_or(0, |server| server.port);
        let none: &[(&str, &str)] = &[];
        // Several boards may have one name, as after a mistake in a workshop.
        let instance = format!("{host_name} at {port}");
        let service = ServiceInfo::new(SERVICE, &instance, &host, "127.0.0.1", port, none)?;
        daemon.register(service)?;
        Ok((server, Some(daemon)))
    }

    fn ssh(&self, mut content: Content) -> Result<Option<SshServer>, SimError> {
        if !content.has_ssh {
            return Ok(None);
        }
        let of_card = content.host_key.take();
        // Without one, a system makes its own at the first start.
        let own = || {
            let mut seed = [0; 32];
            SystemRandom::new().fill(&mut seed).ok()?;
            server::key_of(&seed)
        };
        let key = match self.request.faults.contains(&BoardFault::OtherHostKey) {
            true => own(),
            false => of_card.or_else(own),
        };
        let Some(key) = key else { return Ok(None) };
        let accepts_passwords = content.accepts_passwords;
        let content = Arc::new(Mutex::new(content));
        Ok(Some(SshServer::start(content, key, accepts_passwords)?))
    }
}
