//! `pinewrit rack power-on BOARD` and `power-off`

use std::fs::{self, File};
use std::path::Path;
use std::process::{Command, Stdio};
use std::time::{Duration, Instant};

use pinewrit_host::{Rack, RackBoard, Readers};
use pinewrit_session::{boards, signals};
use pinewrit_simboard::{PowerOn, Running, SimError, State, power_on};
use pinewrit_ui::{Event, Exit, Message, Ui, style, words};
use rustix::fs::{FlockOperation, flock};
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

use super::Outcome;

/// The rate of boards that say nothing else, in bits a second.
const USUAL: u32 = 115_200;
/// How long a start takes at most, besides what the rack file says.
const PATIENCE: Duration = Duration::from_secs(15);
/// How often somebody looks.
const LOOK: Duration = Duration::from_millis(50);

/// Where a board is, while it is switched on: the content of its file.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize, JsonSchema)]
pub(crate) struct BoardOn {
    /// Its name.
    board: String,
    /// The process.
    process: u32,
    /// Its console.
    console: String,
    /// The port of its SSH server on 127.0.0.1; none before it is up, or if it has none.
    ssh_port: Option<u16>,
    /// Whether it is up.
    up: bool,
    /// Why it stands still.
    stopped: Option<String>,
}

/// A simulated board was switched on or off.
#[derive(Serialize, JsonSchema)]
pub(crate) struct PowerEvent {
    /// The command.
    command: &'static str,
    /// Whether it is on.
    on: bool,
    #[serde(flatten)]
    board: BoardOn,
}

impl Event for PowerEvent {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["rack power-on", "rack power-off"];
}

/// Switches a board of the rack on, in this process.
pub(in crate::commands) fn start(rack: &Rack, name: &str) -> Result<Running, Message> {
    let board = rack.board(name).map_err(|e| words::rack_error(&e))?;
    let kind = board.kind.as_deref().map(boards::find).transpose()?;
    let rate = board
        .rate
        .or(kind.as_ref().and_then(|kind| kind.serial_rate));
    let request = PowerOn {
        rate: rate.unwrap_or(USUAL),
        kind,
        start: board.start,
        hardware: board.hardware.clone(),
        faults: board.faults.clone(),
    };
    let readers = Readers::Rack(rack.clone());
    let medium = board
        .card
        .as_deref()
        .map(|path| readers.open_for_reading(path));
    let medium = medium.transpose().map_err(|error| {
        let name = board
            .card
            .as_deref()
            .unwrap_or(Path::new(""))
            .display()
            .to_string();
        words::named_medium_error(&name, &error)
    })?;
    let started = power_on(request, medium.as_ref().map(|medium| &*medium.device));
    started.map_err(|error| sim_error(name, &error))
}

fn sim_error(name: &str, error: &SimError) -> Message {
    let exit = match error {
        SimError::Card(_) => Exit::Medium,
        SimError::Io(_) | SimError::Mdns(_) => Exit::Internal,
    };
    Message::new(exit, format!("the board {name} cannot be switched on"))
        .fact("reason", words::error_chain(error))
}

/// The file of a running board is locked by its process.
pub(super) fn is_on(board: &RackBoard) -> bool {
    File::open(&board.running)
        .is_ok_and(|file| flock(&file, FlockOperation::NonBlockingLockShared).is_err())
}

pub(super) fn on(ui: &Ui, path: &Path, name: &str, in_background: bool) -> Outcome {
    let rack = Rack::open(path).map_err(|e| words::rack_error(&e))?;
    let board = rack.board(name).map_err(|e| words::rack_error(&e))?;
    if is_on(&board) {
        return Err(already_on(path, name));
    }
    match in_background {
        true => {
            // What keeps it from being switched on is told here.
            drop(start(&rack, name)?);
            beside(ui, path, &board)
        }
        false => here(ui, path, &rack, &board),
    }
}

fn already_on(path: &Path, name: &str) -> Message {
    Message::new(Exit::Usage, format!("the board {name} is already on")).remedy(format!(
        "pinewrit --rack {} rack power-off {name}",
        path.display()
    ))
}

/// Runs the board until it is switched off.
fn here(ui: &Ui, path: &Path, rack: &Rack, board: &RackBoard) -> Outcome {
    let cancel = signals::watch();
    let failed = |error: std::io::Error| {
        let what = format!("{} cannot be written", board.running.display());
        Message::new(Exit::Usage, what).fact("system", error.to_string())
    };
    // Another process may have switched it on meanwhile: what it has written stays.
    let file = File::options()
        .create(true)
        .write(true)
        .truncate(false)
        .open(&board.running)
        .map_err(failed)?;
    flock(&file, FlockOperation::NonBlockingLockExclusive)
        .map_err(|_| already_on(path, &board.name))?;
    let running = start(rack, &board.name)?;
    let mut told = None;
    while !cancel.is_cancelled() {
        let state = running.state();
        if told.as_ref() != Some(&state) {
            let on = described(&board.name, &running, &state);
            fs::write(&board.running, serde_json::to_vec(&on).unwrap_or_default())
                .map_err(failed)?;
            tell(ui, path, &on, &state);
            told = Some(state);
        }
        std::thread::sleep(LOOK);
    }
    drop(running);
    // Its lock goes with the process.
    let _ = fs::remove_file(&board.running);
    Ok(())
}

fn described(name: &str, running: &Running, state: &State) -> BoardOn {
    BoardOn {
        board: name.to_owned(),
        process: std::process::id(),
        console: running.console().display().to_string(),
        ssh_port: match state {
            State::Up(port) => *port,
            _ => None,
        },
        up: matches!(state, State::Up(_)),
        stopped: match state {
            State::Stopped(why) => Some(why.clone()),
            _ => None,
        },
    }
}

fn tell(ui: &Ui, path: &Path, on: &BoardOn, state: &State) {
    let (good, warning) = (style::GOOD, style::WARNING);
    let name = &on.board;
    match state {
        State::Starting => ui.say(format!(
            "{name} starts (a stand-in for a board)\n  console   pinewrit watch {}\n",
            on.console
        )),
        State::Stopped(why) => ui.result(format!("{warning}{name} stands still:{warning:#} {why}\n")),
        State::Up(None) => ui.result(format!("{good}{name} is up{good:#}, and cannot be reached by SSH\n")),
        State::Up(Some(port)) => ui.result(format!(
            "{good}{name} is up:{good:#} SSH at 127.0.0.1 port {port}\n  next      pinewrit --rack {} find\n",
            path.display()
        )),
    }
    if *state != State::Starting {
        ui.event(&PowerEvent {
            command: "rack power-on",
            on: true,
            board: on.clone(),
        });
    }
}

/// Starts a process of its own, and waits until its board is up or stands still.
fn beside(ui: &Ui, path: &Path, board: &RackBoard) -> Outcome {
    let failed = |why: String| {
        Message::new(
            Exit::Internal,
            format!("the board {} cannot be switched on", board.name),
        )
        .fact("reason", why)
        .remedy("without --background its messages can be seen")
    };
    let program = std::env::current_exe().map_err(|error| failed(error.to_string()))?;
    let mut command = Command::new(program);
    command
        .arg("--rack")
        .arg(path)
        .args(["--quiet", "rack", "power-on", &board.name]);
    command
        .stdin(Stdio::null())
        .stdout(Stdio::null())
        .stderr(Stdio::null());
    // It outlives the terminal.
    std::os::unix::process::CommandExt::process_group(&mut command, 0);
    let mut child = command.spawn().map_err(|error| failed(error.to_string()))?;
    let end = Instant::now() + board.start + PATIENCE;
    while Instant::now() < end {
        if let Ok(Some(status)) = child.try_wait() {
            return Err(failed(status.to_string()));
        }
        let on = read(board).filter(|on| on.up || on.stopped.is_some());
        if let Some(on) = on {
            let state = match &on.stopped {
                Some(why) => State::Stopped(why.clone()),
                None => State::Up(on.ssh_port),
            };
            tell(ui, path, &on, &state);
            ui.say(format!("  console   pinewrit watch {}\n", on.console));
            return Ok(());
        }
        std::thread::sleep(LOOK);
    }
    // What does not come up in time is not left behind.
    let _ = child.kill();
    Err(failed("it was not up in time".to_owned()))
}

fn read(board: &RackBoard) -> Option<BoardOn> {
    serde_json::from_slice(&fs::read(&board.running).ok()?).ok()
}

pub(super) fn off(ui: &Ui, path: &Path, name: &str) -> Outcome {
    let rack = Rack::open(path).map_err(|e| words::rack_error(&e))?;
    let board = rack.board(name).map_err(|e| words::rack_error(&e))?;
    let on = read(&board).filter(|_| is_on(&board));
    let Some(on) = on else {
        return Err(Message::new(
            Exit::Usage,
            format!("the board {name} is not on"),
        ));
    };
    let process = i32::try_from(on.process)
        .ok()
        .and_then(rustix::process::Pid::from_raw);
    if let Some(process) = process {
        // It may have ended by itself since.
        let _ = rustix::process::kill_process(process, rustix::process::Signal::TERM);
    }
    let end = Instant::now() + PATIENCE;
    while is_on(&board) && Instant::now() < end {
        std::thread::sleep(LOOK);
    }
    ui.event(&PowerEvent {
        command: "rack power-off",
        on: false,
        board: on,
    });
    ui.result(format!("{name} is off\n"));
    Ok(())
}
