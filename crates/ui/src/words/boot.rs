//! The first boot in words.

use pinewrit_boot::{End, Ended, Hint, PortError, Stage, WatchReport};

use crate::text::printable;
use crate::{Exit, Message, units};

/// A port that cannot be used.
pub fn port_error(error: &PortError) -> Message {
    let message = Message::new(Exit::Usage, error.to_string());
    match error {
        PortError::Missing(_) => message.remedy(
            "check the cable; `pinewrit watch` without a port waits for one to be plugged in",
        ),
        PortError::NotAllowed(_) => {
            message.remedy("add yourself to the group `dialout`, and log in again")
        }
        PortError::Busy(_) => message.remedy("close the other program"),
        PortError::Other { .. } => message,
    }
}

/// A stage in words.
pub fn stage(stage: Stage) -> &'static str {
    match stage {
        Stage::Firmware => "firmware",
        Stage::Loader => "boot loader",
        Stage::Kernel => "kernel",
        Stage::UserSpace => "user space",
        Stage::FirstStart => "first-boot work",
        Stage::Login => "login",
    }
}

/// Why a boot does not go on, and what is likely.
pub fn end(end: End) -> (&'static str, &'static str) {
    match end {
        End::NoBootDevice => (
            "the firmware finds nothing to boot",
            "`pinewrit inspect MEDIUM --board BOARD` says what it misses",
        ),
        End::LoaderPrompt => (
            "the boot loader waits for commands: it found no configuration",
            "`pinewrit inspect MEDIUM` follows its configuration",
        ),
        End::NoRoot => (
            "the kernel finds no root file system",
            "compare root= in the boot configuration with `pinewrit inspect MEDIUM`; the initrd may lack a driver",
        ),
        End::NoInit => (
            "the first program is missing, or for another processor",
            "`pinewrit inspect MEDIUM` says which",
        ),
        End::Panic => (
            "the kernel has stopped",
            "the lines before it say why; --log FILE keeps them",
        ),
        End::Emergency => (
            "the system waits in a shell for repairs",
            "`pinewrit check MEDIUM` looks at its file systems; `pinewrit inspect` at fstab",
        ),
    }
}

/// Something that people should know about a console.
pub fn hint(hint: &Hint) -> String {
    match hint {
        Hint::Silent { seconds } => format!(
            "nothing has come for {seconds} s. Is the board on? Check the ground wire, and that TX goes to RX \
             and RX to TX (between RS-232 ports: a null modem)"
        ),
        Hint::Garbage {
            rate,
            text_at: Some(found),
        } => {
            format!("what comes at {rate} baud is no text; at {found} it is: --baud {found}")
        }
        Hint::Garbage {
            rate,
            text_at: None,
        } => format!(
            "what comes at {rate} baud is no text, nor at the other usual rates: check the ground wire, and \
             whether the adapter has the board's voltage"
        ),
        Hint::Gone => "the port is gone; waiting for it".to_owned(),
        Hint::Back => "the port is back".to_owned(),
    }
}

/// The message that ends it badly, if it did not end well.
pub fn ended(report: &WatchReport, is_awaited: bool) -> Option<Message> {
    let at = |message: Message| match &report.last {
        Some(line) => message.fact("last line", printable(line)),
        None => message,
    };
    let stage = report.stage.map_or("nothing was recognised", stage);
    match &report.ended {
        Ended::Found { .. } => None,
        Ended::Stopped if !is_awaited => None,
        Ended::Stopped => Some(Message::new(Exit::Interrupted, "stopped")),
        Ended::Failed {
            because: Some(because),
            line,
        } => {
            let (what, remedy) = end(*because);
            Some(
                Message::new(Exit::Medium, format!("the board does not boot: {what}"))
                    .fact("said", printable(line))
                    .remedy(remedy),
            )
        }
        Ended::Failed { line, .. } => Some(
            Message::new(Exit::Medium, "the board said what --fail names")
                .fact("said", printable(line)),
        ),
        Ended::TimedOut if report.bytes == 0 => Some(
            Message::new(Exit::NotFound, "nothing came in time").remedy(hint(&Hint::Silent {
                seconds: report.seconds as u64,
            })),
        ),
        Ended::TimedOut if is_awaited => Some(at(Message::new(
            Exit::NotFound,
            "what was waited for did not come in time",
        )
        .fact("stage", stage))),
        Ended::TimedOut => None,
    }
}

/// What was heard, in one line.
pub fn summary(report: &WatchReport) -> String {
    let stage = report
        .stage
        .map_or(String::new(), |one| format!(", up to: {}", stage(one)));
    let restarts = match report.restarts {
        0 => String::new(),
        1 => ", started anew once".to_owned(),
        more => format!(", started anew {more} times"),
    };
    let lines = units::counted(report.lines, "line");
    let time = units::time(std::time::Duration::from_secs_f64(report.seconds));
    format!("heard {lines} in {time}{stage}{restarts}\n")
}
