//! Looking at files: `list`, `tree`, `read`, `check`.

use std::fs::File;
use std::io::{self, Write};
use std::path::Path;

use pinewrit_disk::{BlockDevice, Window};
use pinewrit_image::PeekDevice;
use pinewrit_volume::files::{
    Difference, FileFacts, Files, Kind, Node, compare, expected_of, open_to_read, read_expected,
    walk,
};

use super::super::Outcome;
use super::filesystem;
use crate::args::{ReadArgs, SourceArgs};
use crate::context::change;
use crate::context::source::{self, Keep};
use crate::context::{Context, medium};
use crate::events::{CheckEvent, ExpectedEvent, FileEvent, ListEvent, ReadEvent};
use crate::exit::Exit;
use crate::message::Message;
use crate::ui::output::Sink;
use crate::ui::text::printable;
use crate::ui::{Ui, style, units};
use crate::words;

/// Opens the place and hands its file system on.
fn look<T>(
    cx: &Context,
    at: &ReadArgs,
    work: impl FnOnce(&Files<'_>, &str) -> Result<T, Message>,
) -> Result<T, Message> {
    let found = medium::named_as_source(cx, &at.source).map(|chosen| chosen.path);
    if let Some(path) = found.as_deref().or(at.source.path()) {
        change::tell_interrupted(cx, path);
    }
    if let Some(path) = found {
        let medium = cx.readers.open_for_reading(&path);
        let medium = medium.map_err(|e| words::medium_error(&e))?;
        return look_into(&medium.name(), &*medium.device, at, work);
    }
    let source = source::open(cx, &at.source, &SourceArgs::plain(), Keep::No)?;
    let device = PeekDevice::new(source.for_a_look());
    look_into(&source.name(), &device, at, work)
}

fn look_into<T>(
    name: &str,
    device: &dyn BlockDevice,
    at: &ReadArgs,
    work: impl FnOnce(&Files<'_>, &str) -> Result<T, Message>,
) -> Result<T, Message> {
    let found = filesystem(name, device, &at.place)?;
    let window = Window::new(device, found.range);
    let files = open_to_read(&window).map_err(|e| words::files_error(name, &e))?;
    work(&files.with_zone(&at.fat.fat_zone), name)
}

/// The command that shows what is at a place.
fn listing(at: &ReadArgs) -> String {
    format!("pinewrit files list {} {}", at.source, at.place)
}

fn not_there(at: &ReadArgs, files: &Files<'_>) -> Message {
    let path = &at.place.path;
    let is_there = matches!(files.facts(path), Ok(Some(_)));
    if is_there {
        let what = format!("{} is not a directory", at.place);
        return Message::new(Exit::Usage, what).remedy(listing(at));
    }
    let message = Message::new(Exit::Usage, format!("{} does not exist", at.place));
    let folder = path.rsplit_once('/').map_or("/", |(folder, _)| folder);
    match files.names(folder) {
        Ok(Some(names)) if !names.is_empty() => {
            let shown = names.iter().take(12).map(|name| printable(name));
            let mut shown: Vec<String> = shown.collect();
            if names.len() > shown.len() {
                shown.push(format!("and {} more", names.len() - shown.len()));
            }
            let folder = if folder.is_empty() { "/" } else { folder };
            message.fact(format!("in {folder}"), shown.join(", "))
        }
        _ => message,
    }
}

pub(super) fn list(cx: &Context, at: &ReadArgs) -> Outcome {
    let text = look(cx, at, |files, name| {
        let failed = |e| words::files_error(name, &e);
        let path = &at.place.path;
        let facts = files.facts(path).map_err(failed)?;
        let nodes = match facts {
            Some(facts)
                if facts.kind != Kind::Folder && files.names(path).map_err(failed)?.is_none() =>
            {
                vec![Node {
                    path: path.clone(),
                    facts,
                    depth: 1,
                }]
            }
            _ => {
                let mut nodes = Vec::new();
                let walked = walk(files, path, 1, &mut |node| {
                    nodes.push(node);
                    true
                });
                match walked {
                    Err(pinewrit_volume::files::FilesError::NotFound(_)) => {
                        return Err(not_there(at, files));
                    }
                    walked => walked.map_err(failed)?,
                }
                nodes
            }
        };
        for node in &nodes {
            cx.ui.event(&FileEvent {
                path: &node.path,
                facts: &node.facts,
            });
        }
        tell_list(&cx.ui, "files list", name, at, nodes.len());
        Ok(rows(&nodes))
    })?;
    cx.ui.result(text);
    Ok(())
}

fn tell_list(ui: &Ui, command: &'static str, source: &str, at: &ReadArgs, count: usize) {
    ui.event(&ListEvent {
        command,
        source,
        place: at.place.to_string(),
        count,
    });
}

/// Rights as `ls` of any system shows them, for what has some.
fn rights(facts: &FileFacts) -> String {
    let kind = match facts.kind {
        Kind::File => '-',
        Kind::Folder => 'd',
        Kind::Link => 'l',
        Kind::Special => 's',
    };
    let Some(mode) = facts.mode else {
        return kind.to_string();
    };
    let mut text = String::from(kind);
    for (shift, special, letter) in [(6, 0o4000, 's'), (3, 0o2000, 's'), (0, 0o1000, 't')] {
        let bits = mode >> shift;
        text.push(if bits & 4 != 0 { 'r' } else { '-' });
        text.push(if bits & 2 != 0 { 'w' } else { '-' });
        text.push(match (mode & special != 0, bits & 1 != 0) {
            (true, true) => letter,
            (true, false) => letter.to_ascii_uppercase(),
            (false, true) => 'x',
            (false, false) => '-',
        });
    }
    text
}

fn time(seconds: Option<i64>) -> String {
    let time = seconds.and_then(|seconds| jiff::Timestamp::from_second(seconds).ok());
    time.map_or(String::new(), |time| {
        time.strftime("%Y-%m-%d %H:%M").to_string()
    })
}

fn shown_name(path: &str, facts: &FileFacts) -> String {
    let name = printable(path.rsplit('/').next().unwrap_or(path));
    match (&facts.kind, &facts.target) {
        (Kind::Folder, _) => format!("{name}/"),
        (_, Some(target)) => format!("{name} → {}", printable(target)),
        _ => name,
    }
}

fn rows(nodes: &[Node]) -> String {
    if nodes.is_empty() {
        return "  empty\n".to_owned();
    }
    let owner = |facts: &FileFacts| {
        let owner = facts.owner;
        owner.map_or(String::new(), |(uid, gid)| format!("{uid}:{gid}"))
    };
    let size = |facts: &FileFacts| match facts.kind {
        Kind::File => units::grouped(facts.size),
        _ => String::new(),
    };
    let widest = |text: &dyn Fn(&FileFacts) -> String| {
        nodes
            .iter()
            .map(|node| text(&node.facts).len())
            .max()
            .unwrap_or(0)
    };
    let (owners, sizes) = (widest(&owner), widest(&size));
    let mut text = String::new();
    for node in nodes {
        let facts = &node.facts;
        let mut line = format!("  {}", rights(facts));
        if owners > 0 {
            line += &format!("  {:>owners$}", owner(facts));
        }
        let name = shown_name(&node.path, facts);
        line += &format!(
            "  {:>sizes$}  {:16}  {name}",
            size(facts),
            time(facts.modified)
        );
        text += &line;
        text.push('\n');
    }
    text
}

pub(super) fn expected(cx: &Context, at: &ReadArgs) -> Outcome {
    let list = look(cx, at, |files, name| {
        let list = expected_of(files, &at.place.path);
        let list = list.map_err(|e| words::files_error(name, &e))?;
        if cx.ui.json {
            let all = read_expected(&list).unwrap_or_default();
            for (path, expected) in &all {
                cx.ui.event(&ExpectedEvent { path, expected });
            }
            tell_list(&cx.ui, "files list", name, at, all.len());
        }
        Ok(list)
    })?;
    cx.ui.result(list);
    Ok(())
}

/// Lines that a tree has at most on a screen.
const MAX_LINES: usize = 200_000;

pub(super) fn tree(cx: &Context, at: &ReadArgs, depth: Option<usize>) -> Outcome {
    let text = look(cx, at, |files, name| {
        let mut nodes = Vec::new();
        let mut is_cut = false;
        let walked = walk(
            files,
            &at.place.path,
            depth.unwrap_or(usize::MAX),
            &mut |node| {
                is_cut = nodes.len() == MAX_LINES;
                if !is_cut {
                    nodes.push(node);
                }
                !is_cut
            },
        );
        match walked {
            Err(pinewrit_volume::files::FilesError::NotFound(_)) => {
                return Err(not_there(at, files));
            }
            walked => walked.map_err(|e| words::files_error(name, &e))?,
        }
        for node in &nodes {
            cx.ui.event(&FileEvent {
                path: &node.path,
                facts: &node.facts,
            });
        }
        tell_list(&cx.ui, "files tree", name, at, nodes.len());
        let mut text = drawn(&at.place.to_string(), &nodes);
        if is_cut {
            let most = units::grouped(MAX_LINES as u64);
            text += &format!(
                "  only the first {most} are shown: name a directory below, or --depth 1\n"
            );
        }
        Ok(text)
    })?;
    cx.ui.result(text);
    Ok(())
}

fn drawn(head: &str, nodes: &[Node]) -> String {
    let (strong, dim) = (style::STRONG, style::DIM);
    let mut text = format!("{strong}{head}{strong:#}\n");
    // Which levels go on below the current line.
    let mut open = Vec::new();
    let (mut files, mut folders, mut bytes) = (0, 0, 0);
    for (index, node) in nodes.iter().enumerate() {
        let later = nodes[index + 1..]
            .iter()
            .find(|next| next.depth <= node.depth);
        let goes_on = later.is_some_and(|next| next.depth == node.depth);
        open.truncate(node.depth - 1);
        let mut lead: String = open
            .iter()
            .map(|is_open| if *is_open { "│  " } else { "   " })
            .collect();
        lead += if goes_on { "├─ " } else { "└─ " };
        open.push(goes_on);
        let name = shown_name(&node.path, &node.facts);
        let size = match node.facts.kind {
            Kind::File => format!("  {dim}{}{dim:#}", units::size(node.facts.size)),
            _ => String::new(),
        };
        text += &format!("  {dim}{lead}{dim:#}{name}{size}\n");
        match node.facts.kind {
            Kind::Folder => folders += 1,
            _ => files += 1,
        }
        bytes += node.facts.size * u64::from(node.facts.kind == Kind::File);
    }
    let (files, folders) = (
        units::counted(files, "file"),
        match folders {
            1 => "1 directory".to_owned(),
            many => format!("{} directories", units::grouped(many)),
        },
    );
    format!("{text}  {files} in {folders}, {}\n", units::size(bytes))
}

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
            // What its own end says counts: the source is not to blame for a full disk.
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

/// Copies a folder with all below it to a new folder of this computer. Devices and pipes are left out.
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
                // A new file: nothing that stands there is followed.
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

/// Longer files are no part of a line of JSON.
const MAX_TEXT: u64 = 1 << 20;

/// A file as a part of a line of JSON.
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

pub(super) fn check(cx: &Context, at: &ReadArgs, list: &Path) -> Outcome {
    let unreadable = |found: String| {
        let what = format!("the list {} cannot be read", list.display());
        Message::new(Exit::Settings, what)
            .fact("found", found)
            .remedy("pinewrit files list MEDIUM PLACE --expected prints one")
    };
    let text = std::fs::read_to_string(list).map_err(|e| unreadable(e.to_string()))?;
    let expected = read_expected(&text).map_err(|e| unreadable(e.trim().to_owned()))?;
    let differences = look(cx, at, |files, name| {
        let compared = compare(files, &at.place.path, &expected);
        compared.map_err(|e| match e {
            pinewrit_volume::files::FilesError::NotFound(_) => not_there(at, files),
            e => words::files_error(name, &e),
        })
    })?;
    cx.ui.event(&CheckEvent {
        command: "files check",
        place: at.place.to_string(),
        expected: expected.len(),
        differences: &differences,
    });
    if differences.is_empty() {
        let good = style::GOOD;
        let count = units::counted(expected.len() as u64, "file");
        cx.ui.result(format!(
            "{good}equal:{good:#} {} has {count}, all as expected\n",
            at.place
        ));
        return Ok(());
    }
    let count = units::counted(differences.len() as u64, "difference");
    let what = format!("{} is not as expected: {count}", at.place);
    let message = Message::new(Exit::Differences, what);
    Err(differences.iter().fold(message, |message, difference| {
        let (name, text) = told(difference);
        message.fact(name, text)
    }))
}

fn told(difference: &Difference) -> (&'static str, String) {
    match difference {
        Difference::Missing { path, instead } => match instead {
            None => ("missing", printable(path)),
            Some(other) => (
                "missing",
                format!(
                    "{}; an editor renamed it to {}",
                    printable(path),
                    printable(other)
                ),
            ),
        },
        Difference::Extra { path } => ("extra", printable(path)),
        Difference::Size {
            path,
            expected,
            found,
        } => {
            let (expected, found) = (units::grouped(*expected), units::grouped(*found));
            (
                "size",
                format!("{}: {found} bytes, expected {expected}", printable(path)),
            )
        }
        Difference::Content { path } => ("content", printable(path)),
    }
}
