//! `pinewrit boards`

use std::io::Write;
use std::path::{Path, PathBuf};

use pinewrit_args::{BoardsAction, BoardsArgs};
use pinewrit_boards::{Board, learn};
use pinewrit_disk::{BlockDevice, ReadCache};
use pinewrit_image::Location;
use pinewrit_session::source::{self, Keep};
use pinewrit_session::workshop::config_folder;
use pinewrit_session::{Context, boards, medium};
use pinewrit_ui::{Event, Exit, Message, Ui, style, words};
use schemars::JsonSchema;
use serde::Serialize;

use super::{Outcome, inspect};

/// The boards that are known, or one of them.
#[derive(Serialize, JsonSchema)]
pub(crate) struct BoardsEvent {
    /// The command.
    command: &'static str,
    /// The boards.
    boards: Vec<BoardRow>,
}

impl Event for BoardsEvent {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["boards"];
}

/// A board file.
#[derive(Serialize, JsonSchema)]
struct BoardRow {
    /// The board's name; null if the file has mistakes.
    board: Option<String>,
    /// Its architecture.
    architecture: Option<&'static str>,
    /// The ways in which it starts.
    ways: Vec<String>,
    /// The file.
    file: String,
}

impl BoardRow {
    fn of(path: &Path, board: Option<&Board>) -> Self {
        Self {
            board: board.map(|board| board.name.clone()),
            architecture: board.map(|board| board.architecture.word()),
            ways: board.map_or_else(Vec::new, |board| {
                board.ways.iter().map(|way| way.name.clone()).collect()
            }),
            file: path.display().to_string(),
        }
    }
}

pub(crate) fn run(cx: &Context, args: &BoardsArgs) -> Outcome {
    match &args.action {
        BoardsAction::List => list(&cx.ui),
        BoardsAction::Show { board } => {
            let found = boards::find(board)?;
            tell(&cx.ui, vec![BoardRow::of(Path::new(board), Some(&found))]);
            cx.ui.result(words::boards::board(&found));
            Ok(())
        }
        BoardsAction::Check { file } => {
            let name = file.display().to_string();
            let board = Board::read(file).map_err(|e| words::boards::board_error(&name, &e))?;
            tell(&cx.ui, vec![BoardRow::of(file, Some(&board))]);
            cx.ui.result(format!(
                "{name} has no mistakes\n{}",
                words::boards::board(&board)
            ));
            Ok(())
        }
        BoardsAction::Learn { medium, name, to } => learned(cx, medium, name, to.as_deref()),
    }
}

fn tell(ui: &Ui, boards: Vec<BoardRow>) {
    ui.event(&BoardsEvent {
        command: "boards",
        boards,
    });
}

fn list(ui: &Ui) -> Outcome {
    let all = boards::all();
    let rows = all
        .iter()
        .map(|(path, board)| BoardRow::of(path, board.as_ref().ok()));
    tell(ui, rows.collect());
    if all.is_empty() {
        let folders: Vec<String> = boards::folders()
            .iter()
            .map(|folder| folder.display().to_string())
            .collect();
        ui.result(format!(
            "no boards are known\n  → put board files into {}\n  → pinewrit boards learn MEDIUM --name NAME\n",
            folders.join(" or ")
        ));
        return Ok(());
    }
    let width = all.iter().map(|(_, board)| match board {
        Ok(board) => board.name.chars().count(),
        Err(_) => 0,
    });
    let width = width.max().unwrap_or(0).max(8);
    let mut text = String::new();
    for (path, board) in &all {
        text += &match board {
            Ok(board) => format!(
                "{:<width$}  {:<12}  {}\n",
                board.name,
                board.architecture.word(),
                path.display()
            ),
            Err(_) => {
                let (warning, path) = (style::WARNING, path.display());
                format!(
                    "{warning}mistakes{warning:#}  {path}: pinewrit boards check {path} shows them\n"
                )
            }
        };
    }
    ui.result(text);
    Ok(())
}

fn learned(cx: &Context, location: &Location, name: &str, to: Option<&Path>) -> Outcome {
    let text = match medium::named_as_source(cx, location) {
        Some(found) => {
            let opened = cx.readers.open_for_reading(&found.path);
            let opened = opened.map_err(|e| words::medium_error(&e))?;
            written(&*opened.device, name, &opened.name())
        }
        None => {
            let options = pinewrit_args::SourceArgs::plain();
            let source = source::open(cx, location, &options, Keep::No)?;
            written(&*inspect::device(&source), name, &source.name())
        }
    }?;
    let path = match to {
        Some(path) => path.to_owned(),
        None => own_file(name)?,
    };
    let failed = |error: std::io::Error| {
        let what = format!("{} cannot be written", path.display());
        Message::new(Exit::Usage, what).fact("system", error.to_string())
    };
    if let Some(folder) = path
        .parent()
        .filter(|folder| !folder.as_os_str().is_empty())
    {
        std::fs::create_dir_all(folder).map_err(failed)?;
    }
    // A board file that somebody has worked on is not overwritten.
    let mut file = std::fs::File::create_new(&path).map_err(failed)?;
    file.write_all(text.as_bytes()).map_err(failed)?;
    let board = Board::read(&path)
        .map_err(|e| words::boards::board_error(&path.display().to_string(), &e))?;
    tell(&cx.ui, vec![BoardRow::of(&path, Some(&board))]);
    cx.ui.result(format!(
        "done: {} says what {name} needs\n{}  next      read it, and take out what is not needed\n",
        path.display(),
        words::boards::board(&board)
    ));
    Ok(())
}

fn written(device: &dyn BlockDevice, board: &str, medium: &str) -> Result<String, Message> {
    let device = &ReadCache::new(device);
    learn(device, board, medium).map_err(|e| words::disk_error(medium, &e))
}

fn own_file(name: &str) -> Result<PathBuf, Message> {
    let folder = config_folder().ok_or_else(|| {
        Message::new(Exit::Usage, "this user has no home").remedy("--to FILE says where to")
    })?;
    Ok(folder.join("boards").join(boards::file_name(name)))
}
