//! `pinewrit files read`

use std::fs::File;
use std::io::{self, Write};
use std::path::Path;

use pinewrit_args::ReadArgs;
use pinewrit_ui::output::Sink;
use pinewrit_ui::text::printable;
use pinewrit_ui::{Exit, Message, Ui, style, units, words};
use pinewrit_volume::files::{Files, Kind, walk};

use super::look::{MAX_LINES, listing, look, not_there};
use crate::events::ReadEvent;
use pinewrit_session::Context;
use pinewrit_session::Outcome;

pub(super) fn read(cx: &Context, at: &ReadArgs, to: Option<&Path>) -> Outcome {
    look(cx, at, |files, name| {
        let path = &at.place.path;
        let failed = |e| words::files_error(name, &e);
        match files.size_of(path).map_err(failed)? {
            Some(_) => {}
            None if let Some(to) = to
                && files.names(path).map_err(failed)?.is_some() =>
            {
                return copy_folder(&cx.ui, files, name, at, to);
            }
            None if files.has(path).map_err(failed)? => {
                let what = format!("{} is a directory", at.place);
                return Err(Message::new(Exit::Usage, what).remedy(listing(at)));
            }
            None => return Err(not_there(at, files)),
        }
        let not_written = |e: io::Error| {
            let what = match to {
                Some(to) => format!("{} cannot be written", to.display()),
                None => "the output cannot be written".to_owned(),
            };
            Message::new(Exit::Internal, what).fact("system", e.to_string())
        };
        let copy = |out: &mut dyn Write| {
            let mut sink = Sink::new(out);
            let copied = files.read_to(path, &mut sink);
            // Its own error counts: the source is not to blame for a full disk.
            if !sink.has_failed() {
                copied.map_err(failed)?;
            }
            sink.end().map(drop).map_err(not_written)
        };
        let mut text = None;
        match to {
            None if cx.ui.json => text = Some(text_of(files, name, at)?),
            None => copy(&mut io::stdout().lock())?,
            Some(to) => {
                let mut file = File::create(to).map_err(not_written)?;
                copy(&mut file)?;
                file.sync_all().map_err(not_written)?;
            }
        }
        cx.ui.event(&ReadEvent {
            command: "files read",
            source: name,
            place: at.place.to_string(),
            bytes: files.size_of(path).map_err(failed)?.unwrap_or(0),
            to: to.map(|to| to.display().to_string()),
            text,
        });
        Ok(())
    })?;
    if let Some(to) = to {
        let good = style::GOOD;
        cx.ui.result(format!(
            "{good}done:{good:#} {} is in {}\n",
            at.place,
            to.display()
        ));
    }
    Ok(())
}

/// Copies a folder with everything below it to a new folder on this computer. Devices and pipes are
/// skipped.
fn copy_folder(ui: &Ui, files: &Files<'_>, name: &str, at: &ReadArgs, to: &Path) -> Outcome {
    let root = &at.place.path;
    let not_written = |e: io::Error| {
        let what = format!("{} cannot be written", to.display());
        Message::new(Exit::Internal, what).fact("system", e.to_string())
    };
    let is_used = std::fs::read_dir(to).is_ok_and(|mut all| all.next().is_some());
    if is_used || to.is_file() {
        let what = format!("{} already exists and is not empty", to.display());
        return Err(Message::new(Exit::Usage, what).remedy("name a directory that does not exist"));
    }
    let mut nodes = Vec::new();
    let walked = walk(files, root, usize::MAX, &mut |node| {
        nodes.push(node);
        nodes.len() < MAX_LINES
    });
    walked.map_err(|e| words::files_error(name, &e))?;
    std::fs::create_dir_all(to).map_err(not_written)?;
    let (mut bytes, mut left_out) = (0, 0);
    for node in &nodes {
        let below = node.path[root.trim_end_matches('/').len()..].trim_start_matches('/');
        if below.split('/').any(|part| part == "..") {
            let what = format!(
                "a name on {name} would leave the directory: {}",
                printable(&node.path)
            );
            return Err(Message::new(Exit::Medium, what).remedy("pinewrit files tree shows it"));
        }
        let target = to.join(below);
        match node.facts.kind {
            Kind::Folder => std::fs::create_dir_all(&target).map_err(not_written)?,
            Kind::Link => {
                let leads_to = node.facts.target.clone().unwrap_or_default();
                std::os::unix::fs::symlink(leads_to, &target).map_err(not_written)?;
            }
            Kind::File => {
                // A new file: existing files and links are not followed.
                let file = File::options().write(true).create_new(true).open(&target);
                let mut sink = Sink::new(file.map_err(not_written)?);
                let copied = files.read_to(&node.path, &mut sink);
                if !sink.has_failed() {
                    copied.map_err(|e| words::files_error(name, &e))?;
                }
                sink.end().map_err(not_written)?;
                bytes += node.facts.size;
            }
            Kind::Special => left_out += 1,
        }
    }
    if left_out > 0 {
        let count = units::counted(left_out, "device or pipe");
        ui.say(format!("note: {count} left out\n"));
    }
    ui.event(&ReadEvent {
        command: "files read",
        source: name,
        place: at.place.to_string(),
        bytes,
        to: Some(to.display().to_string()),
        text: None,
    });
    Ok(())
}

/// Longer files are not included in a line of JSON.
const MAX_TEXT: u64 = 1 << 20;

/// A file as part of a line of JSON.
fn text_of(files: &Files<'_>, name: &str, at: &ReadArgs) -> Result<String, Message> {
    let content = files.read(&at.place.path, MAX_TEXT);
    let content = content.map_err(|e| words::files_error(name, &e))?;
    String::from_utf8(content.unwrap_or_default()).map_err(|_| {
        let what = format!(
            "{} is not text, and cannot go into a line of JSON",
            at.place
        );
        Message::new(Exit::Usage, what).remedy("--to FILE copies it to a file")
    })
}
