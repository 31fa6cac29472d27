//! Trials in words.

use std::io;
use std::time::Duration;

use pinewrit_boards::chain::{Gravity, Way};
use pinewrit_boot::trial::{Machine, MachineError, News, Outcome, Start, TrialError, TrialReport};

use crate::text::printable;
use crate::{Exit, Message, units, words};

/// Why there is no machine for a medium.
pub fn machine_error(name: &str, error: &MachineError) -> Message {
    let message = Message::new(Exit::Usage, format!("{name} cannot be tried: {error}"));
    match error {
        MachineError::NoEmulator { package, .. } | MachineError::NoFirmware { package, .. } => {
            message.remedy(format!(
                "install the package {package} (its name on Debian)"
            ))
        }
        MachineError::Nothing => message.remedy(format!(
            "`pinewrit inspect {name}` says which ways of booting it has"
        )),
        MachineError::Processor(_) => message.remedy("x86-64, arm64 and 32-bit Arm can be tried"),
    }
}

/// A trial that could not begin.
pub fn trial_error(name: &str, error: &TrialError) -> Message {
    match error {
        TrialError::Files(error) => own_files(name, error),
        TrialError::NoRoom => no_files(name).fact("reason", words::error_chain(error)),
        TrialError::Emulator(_) => Message::new(Exit::Internal, format!("{name} cannot be tried"))
            .fact("reason", words::error_chain(error)),
    }
}

/// The trial's own files cannot be made: no fault of what is tried.
pub fn own_files(name: &str, error: &io::Error) -> Message {
    no_files(name).fact("system", words::error_chain(error))
}

fn no_files(name: &str) -> Message {
    let what = format!("{name} cannot be tried: its overlay has no place");
    Message::new(Exit::Refused, what).remedy("TMPDIR=DIR, a folder with more room")
}

/// The machine in one line.
pub fn machine(machine: &Machine) -> String {
    let start = match machine.start {
        Start::Uefi => "UEFI",
        Start::LegacyBios => "legacy BIOS",
        Start::Kernel => "its kernel, without the board's own loader",
    };
    let speed = if machine.is_fast { "" } else { ", emulated" };
    let cores = units::counted(u64::from(machine.cores), "core");
    format!(
        "{} by {start}, {cores}, {} MiB{speed}",
        machine.architecture.word(),
        machine.memory
    )
}

/// Something that happens in a trial.
pub fn news(news: News) -> &'static str {
    match news {
        News::SshAnswers => "SSH answers",
        News::FirstStart => "logged in; first-boot work is still going on",
        News::SwitchedOff => "the system has switched itself off",
        News::PowerCut => "it does not switch itself off, so its power is cut",
        News::SecondBoot => "second boot",
    }
}

/// When things came: `login prompt after 45 s, SSH after 50 s`.
pub fn times(report: &TrialReport) -> String {
    let time = |seconds: u64| units::time(Duration::from_secs(seconds));
    let prompt = report
        .prompt_after
        .map(|at| format!("login prompt after {}", time(at)));
    let ssh = report.ssh_after.map(|at| format!("SSH after {}", time(at)));
    let all: Vec<String> = prompt.into_iter().chain(ssh).collect();
    all.join(", ")
}

/// The message of a trial that did not end well.
pub fn ended(name: &str, report: &TrialReport, way: &Way) -> Option<Message> {
    let message = match &report.outcome {
        Outcome::Up => return None,
        Outcome::Fails {
            because: Some(because),
            line,
        } => {
            let (what, remedy) = words::boot::end(*because);
            let message = Message::new(Exit::Medium, format!("{name} does not boot: {what}"));
            let message = match line {
                Some(line) => message.fact("said", printable(line)),
                None => message,
            };
            likely(message, way).remedy(remedy)
        }
        Outcome::Fails { because: None, .. } => Message::new(
            Exit::Medium,
            format!("{name} does not boot: the machine has switched itself off"),
        ),
        Outcome::GoesRound { times } => {
            let what = format!("{name} does not boot: it has started anew {times} times");
            likely(Message::new(Exit::Medium, what), way)
        }
        Outcome::NoLogin { why } => Message::new(
            Exit::Differences,
            format!("{name} boots, but nobody is let in"),
        )
        .fact("reason", printable(why))
        .remedy("--key FILE, the private key of a user in its settings"),
        Outcome::OtherHostKey { wanted, found } => Message::new(
            Exit::Differences,
            format!("{name} boots, but with another host key than recorded"),
        )
        .fact("recorded", wanted.clone())
        .fact("found", found.clone())
        .remedy("the first boot makes keys anew, or this is another unit's medium"),
        Outcome::Late { missing } => {
            let message = Message::new(Exit::NotFound, format!("{name} has not come up in time"));
            likely(message.fact("missing", missing.clone()), way)
                .remedy("--timeout SECONDS; an emulated boot takes minutes")
                .remedy("--console shows what it does, --picture FILE.png its screen")
        }
        Outcome::Stopped => return Some(Message::new(Exit::Interrupted, "stopped")),
    };
    let stage = report
        .stage
        .map_or("nothing was recognised", words::boot::stage);
    let message = message.fact("came to", stage);
    let message = match &report.last {
        Some(last) => message.fact("last line", printable(last)),
        None => message,
    };
    Some(message)
}

/// What following the medium's own chain says about it.
fn likely(message: Message, way: &Way) -> Message {
    let grave = way
        .findings
        .iter()
        .filter(|one| one.gravity != Gravity::Remark);
    grave.fold(message, |message, one| {
        message.fact("likely", words::chain::fault(&one.fault))
    })
}
