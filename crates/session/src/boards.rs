//! The boards that are known by name.

use std::path::{Path, PathBuf};

use pinewrit_boards::chain::Verdict;
use pinewrit_boards::{Board, BoardError, Extent, Readiness};
use pinewrit_disk::{BlockDevice, ReadCache};
use pinewrit_ui::{Event, Exit, Message, words};
use schemars::JsonSchema;
use serde::Serialize;

use crate::Context;
use crate::workshop::config_folder;

/// The most board files that are looked at.
const MAX_BOARDS: usize = 500;

/// Where board files are looked for: beside the current work, and in the user's configuration.
pub fn folders() -> Vec<PathBuf> {
    let own = config_folder().map(|folder| folder.join("boards"));
    [PathBuf::from("boards")].into_iter().chain(own).collect()
}

/// Name of the file of a board with this name.
pub fn file_name(name: &str) -> String {
    let signs = name.chars().map(|sign| match sign {
        sign if sign.is_ascii_alphanumeric() => sign.to_ascii_lowercase(),
        _ => '-',
    });
    format!("{}.toml", signs.collect::<String>().trim_matches('-'))
}

/// All board files, by their names. Those with mistakes have no board.
pub fn all() -> Vec<(PathBuf, Result<Board, BoardError>)> {
    let mut files: Vec<PathBuf> = Vec::new();
    for folder in folders() {
        let entries = std::fs::read_dir(folder).into_iter().flatten().flatten();
        let found = entries.map(|entry| entry.path());
        let is_board = |path: &PathBuf| path.extension().is_some_and(|end| end == "toml");
        files.extend(found.filter(is_board).take(MAX_BOARDS));
    }
    files.sort();
    files
        .into_iter()
        .map(|path| {
            let board = Board::read(&path);
            (path, board)
        })
        .collect()
}

/// The board in a file, or with a name.
pub fn find(wanted: &str) -> Result<Board, Message> {
    let path = Path::new(wanted);
    if wanted.contains('/') || wanted.ends_with(".toml") {
        return Board::read(path).map_err(|e| words::boards::board_error(wanted, &e));
    }
    let mut known = Vec::new();
    for (path, board) in all() {
        let is_file = path
            .file_name()
            .is_some_and(|name| name == file_name(wanted).as_str());
        match board {
            Ok(board) if is_file || board.name.eq_ignore_ascii_case(wanted) => return Ok(board),
            Ok(board) => known.push(board.name),
            Err(error) if is_file => {
                return Err(words::boards::board_error(
                    &path.display().to_string(),
                    &error,
                ));
            }
            Err(_) => {}
        }
    }
    let message = Message::new(Exit::Usage, format!("no board is called {wanted}"));
    let near = pinewrit_volume::nearest(wanted, known.iter().map(String::as_str));
    Err(match near {
        Some(near) => message.remedy(format!("did you mean {near:?}?")),
        None => message
            .remedy("pinewrit boards list shows the boards that are known")
            .remedy("--board FILE takes a board file"),
    })
}

/// Whether a board starts from what is to be written, or has been.
#[derive(Serialize, JsonSchema)]
pub struct BoardEvent<'a> {
    /// The image or the medium.
    name: &'a str,
    /// What was found.
    readiness: &'a Readiness,
}

impl Event for BoardEvent<'_> {
    const EVENT: &'static str = "board";
}

/// Whether a board starts from what is there.
pub fn judge(
    board: &Board,
    device: &dyn BlockDevice,
    extent: Extent,
    name: &str,
) -> Result<Readiness, Message> {
    let judged = pinewrit_boards::judge(board, &ReadCache::new(device), extent);
    judged.map_err(|e| words::disk_error(name, &e))
}

/// Refuses what a board does not start from; `state` says what that means for the work.
pub fn must_start(
    cx: &Context,
    board: &Board,
    (device, extent): (&dyn BlockDevice, Extent),
    (name, state): (&str, &str),
) -> Result<(), Message> {
    let readiness = judge(board, device, extent, name)?;
    cx.ui.event(&BoardEvent {
        name,
        readiness: &readiness,
    });
    let verdict = words::chain::verdict(readiness.verdict);
    match readiness.verdict {
        Verdict::DoesNotStart => {
            cx.ui.say(words::boards::readiness(&readiness));
            let what = format!("{} does not start from {name}", board.name);
            let message = Message::new(Exit::Differences, what).fact("state", state);
            Err(message.remedy(format!("pinewrit inspect {name} --board {:?}", board.name)))
        }
        _ => {
            cx.ui
                .say(format!("{}: {verdict}, from {name}\n", board.name));
            Ok(())
        }
    }
}
