//! `pinewrit watch PORT`

use std::fs::File;
use std::io::{Read, Write};
use std::os::fd::AsFd;
use std::path::PathBuf;
use std::sync::mpsc::{Receiver, TryRecvError, channel};
use std::time::Duration;

use pinewrit_args::{Baud, WatchArgs};
use pinewrit_boot::{
    Hint, Line, Listener, Place, Stage, Typing, WatchReport, WatchRequest, ports, watch,
};
use pinewrit_core::Cancel;
use pinewrit_session::{Context, boards, signals};
use pinewrit_ui::{Event, Exit, Message, Ui, style, words};
use rustix::termios::{OptionalActions, Termios, isatty, tcgetattr, tcsetattr};
use schemars::JsonSchema;
use serde::Serialize;

use super::Outcome;

/// The rate of boards that say nothing else, in bits a second.
const USUAL: u32 = 115_200;
/// Ends typing: Ctrl-\.
const LEAVE: u8 = 0x1c;
/// How often somebody looks for a new port.
const LOOK: Duration = Duration::from_millis(200);

/// A line of a console.
#[derive(Serialize, JsonSchema)]
pub(crate) struct ConsoleEvent<'a> {
    /// When it came, in seconds from the start.
    at: f64,
    /// Its text, without control characters.
    text: &'a str,
    /// Whether it was ended; a prompt is not.
    whole: bool,
}

impl<'a> ConsoleEvent<'a> {
    pub(super) fn new(line: &'a Line, at: Duration) -> Self {
        Self {
            at: at.as_secs_f64(),
            text: &line.text,
            whole: line.is_whole,
        }
    }
}

impl Event for ConsoleEvent<'_> {
    const EVENT: &'static str = "console";
}

/// A stage of a boot has begun.
#[derive(Serialize, JsonSchema)]
pub(crate) struct BootStageEvent {
    /// When, in seconds from the start.
    at: f64,
    /// The stage.
    boot_stage: Stage,
}

impl BootStageEvent {
    pub(super) fn new(boot_stage: Stage, at: Duration) -> Self {
        Self {
            at: at.as_secs_f64(),
            boot_stage,
        }
    }
}

impl Event for BootStageEvent {
    const EVENT: &'static str = "boot-stage";
}

/// Something to know about a console.
#[derive(Serialize, JsonSchema)]
#[serde(transparent)]
pub(crate) struct HintEvent<'a>(&'a Hint);

impl Event for HintEvent<'_> {
    const EVENT: &'static str = "hint";
}

/// What was heard.
#[derive(Serialize, JsonSchema)]
pub(crate) struct WatchEvent<'a> {
    /// The command.
    command: &'static str,
    /// The port.
    port: String,
    #[serde(flatten)]
    report: &'a WatchReport,
}

impl Event for WatchEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["watch"];
}

pub(crate) fn run(cx: &Context, args: &WatchArgs) -> Outcome {
    let board = args.board.as_deref().map(boards::find).transpose()?;
    let of_board = board.and_then(|board| board.serial_rate).unwrap_or(USUAL);
    let cancel = signals::watch();
    let port = match &args.port {
        Some(port) => port.clone(),
        None => chosen(&cx.ui, &cancel)?,
    };
    let place = Place(port.clone());
    let rate = match args.baud {
        Some(Baud::Rate(rate)) => rate,
        _ => of_board,
    };
    // A port that cannot be opened at all is told before it is waited for.
    drop(place.open(rate).map_err(|e| words::boot::port_error(&e))?);
    let request = WatchRequest {
        rate,
        finds_rate: args.baud == Some(Baud::Auto),
        until: args.until.clone(),
        fail: args.fail.clone(),
        ends_at_failures: !args.typing,
        timeout: args.timeout.map(Duration::from_secs),
        silence: Duration::from_secs(args.silence),
        sends: sends(args),
    };
    let mut listener = Told {
        ui: cx.ui,
        log: args.log.as_deref().map(log).transpose()?,
        keyboard: args.typing.then(Keyboard::open).transpose()?,
    };
    let name = port.display();
    let leave = if args.typing {
        "Ctrl-\\ leaves"
    } else {
        "^C ends"
    };
    cx.ui
        .say(format!("listening to {name} at {rate} baud; {leave}\n"));
    let report = watch(&mut place.opener(), &request, &mut listener, &cancel);
    drop(listener);
    cx.ui.event(&WatchEvent {
        command: "watch",
        port: name.to_string(),
        report: &report,
    });
    match words::boot::ended(&report, !args.until.is_empty()) {
        Some(message) => Err(message),
        None => {
            cx.ui.say(words::boot::summary(&report));
            Ok(())
        }
    }
}

fn sends(args: &WatchArgs) -> Vec<Typing> {
    let after = args.after.iter().cloned().map(Some);
    let after = after.chain(std::iter::repeat(None));
    let both = args.send.iter().zip(after);
    both.map(|(text, after)| Typing {
        after,
        text: text.clone(),
    })
    .collect()
}

pub(super) fn log(path: &std::path::Path) -> Result<File, Message> {
    File::create(path).map_err(|error| {
        let what = format!("{} cannot be written", path.display());
        Message::new(Exit::Usage, what).fact("system", error.to_string())
    })
}

/// The only port, or the one that is plugged in next.
fn chosen(ui: &Ui, cancel: &Cancel) -> Result<PathBuf, Message> {
    let before = ports();
    match before.as_slice() {
        [only] => return Ok(only.clone()),
        [] => ui.say("there is no serial port; waiting for one to be plugged in (^C ends)\n"),
        several => {
            let names: Vec<String> = several
                .iter()
                .map(|port| port.display().to_string())
                .collect();
            return Err(Message::new(Exit::Usage, "there are several serial ports")
                .fact("ports", names.join(", "))
                .remedy("name one: pinewrit watch PORT"));
        }
    }
    while !cancel.is_cancelled() {
        std::thread::sleep(LOOK);
        if let Some(new) = ports().into_iter().find(|port| !before.contains(port)) {
            return Ok(new);
        }
    }
    Err(Message::new(Exit::Interrupted, "stopped"))
}

/// Shows what is heard.
struct Told {
    ui: Ui,
    log: Option<File>,
    keyboard: Option<Keyboard>,
}

impl Listener for Told {
    fn bytes(&mut self, bytes: &[u8]) {
        if self.keyboard.is_some() {
            let mut out = std::io::stdout();
            // What nobody sees is still in the log.
            let _ = out.write_all(bytes).and_then(|()| out.flush());
        }
    }

    fn line(&mut self, line: &Line, at: Duration) {
        let seconds = at.as_secs_f64();
        if let Some(log) = self.log.as_mut().filter(|_| line.is_whole) {
            // A full disk must not end it.
            let _ = writeln!(log, "{seconds:10.3}  {}", line.text);
        }
        self.ui.event(&ConsoleEvent::new(line, at));
        if self.keyboard.is_none() {
            let dim = style::DIM;
            self.ui
                .result(format!("{dim}{seconds:8.1}{dim:#}  {}\n", line.text));
        }
    }

    fn stage(&mut self, stage: Stage, at: Duration) {
        self.ui.event(&BootStageEvent::new(stage, at));
        if self.keyboard.is_none() {
            let strong = style::STRONG;
            let word = words::boot::stage(stage);
            self.ui.say(format!("{strong}── {word}{strong:#}\n"));
        }
    }

    fn hint(&mut self, hint: &Hint) {
        self.ui.event(&HintEvent(hint));
        let warning = style::WARNING;
        let end = if self.keyboard.is_some() {
            "\r\n"
        } else {
            "\n"
        };
        self.ui.say(format!(
            "{warning}note:{warning:#} {}{end}",
            words::boot::hint(hint)
        ));
    }

    fn typed(&mut self) -> Option<Vec<u8>> {
        match &self.keyboard {
            Some(keyboard) => keyboard.typed(),
            None => Some(Vec::new()),
        }
    }
}

/// The keyboard, every key at once; as before when dropped.
struct Keyboard {
    before: Option<Termios>,
    keys: Receiver<Vec<u8>>,
}

impl Keyboard {
    fn open() -> Result<Self, Message> {
        let failed = |error: rustix::io::Errno| {
            Message::new(Exit::Usage, "the keyboard cannot be passed on")
                .fact("system", error.to_string())
        };
        let input = std::io::stdin();
        let before = match isatty(input.as_fd()) {
            false => None,
            true => {
                let before = tcgetattr(input.as_fd()).map_err(failed)?;
                let mut raw = before.clone();
                raw.make_raw();
                tcsetattr(input.as_fd(), OptionalActions::Now, &raw).map_err(failed)?;
                Some(before)
            }
        };
        let (send, keys) = channel();
        // It ends with the program: a read from a terminal cannot be interrupted.
        std::thread::spawn(move || {
            let mut buffer = [0; 256];
            while let Ok(read @ 1..) = std::io::stdin().read(&mut buffer) {
                if send.send(buffer[..read].to_vec()).is_err() {
                    return;
                }
            }
        });
        Ok(Self { before, keys })
    }

    fn typed(&self) -> Option<Vec<u8>> {
        match self.keys.try_recv() {
            Ok(bytes) if bytes.contains(&LEAVE) => None,
            Ok(bytes) => Some(bytes),
            Err(TryRecvError::Empty) => Some(Vec::new()),
            // Input that is over leaves what was typed its time.
            Err(TryRecvError::Disconnected) => Some(Vec::new()),
        }
    }
}

impl Drop for Keyboard {
    fn drop(&mut self) {
        if let Some(before) = &self.before {
            let input = std::io::stdin();
            // There is nothing left to do about it.
            let _ = tcsetattr(input.as_fd(), OptionalActions::Now, before);
        }
    }
}
