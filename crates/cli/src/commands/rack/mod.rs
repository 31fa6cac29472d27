//! `pinewrit rack`

pub(crate) mod power;

use std::fs;
use std::path::Path;

use pinewrit_args::{RackAction, RackArgs};
use pinewrit_host::Rack;
use pinewrit_ui::{Event, Exit, Message, Ui, style, units, words};
use schemars::JsonSchema;
use serde::Serialize;

use super::Outcome;

/// The rack that `new` creates.
pub(super) const SAMPLE: &str = include_str!("../../../../../demo/rack.toml");
const NAME: &str = "rack.toml";
/// The kind of the sample's board.
const SAMPLE_BOARD: &str = include_str!("../../../../../demo/boards/brindle-b2.toml");
const BOARD_NAME: &str = "boards/brindle-b2.toml";

/// The content of a rack.
#[derive(Serialize, JsonSchema)]
pub(crate) struct RackEvent<'a> {
    /// The command.
    command: &'static str,
    /// Path of its file.
    rack: String,
    readers: Vec<ReaderEvent<'a>>,
    cards: Vec<CardEvent>,
    boards: Vec<BoardPlace>,
}

impl Event for RackEvent<'_> {
    const EVENT: &'static str = "result";
    const COMMANDS: &'static [&'static str] = &["rack"];
}

/// A simulated reader.
#[derive(Serialize, JsonSchema)]
struct ReaderEvent<'a> {
    /// Its name.
    reader: &'a str,
    /// The card in it.
    holds: Option<&'a str>,
}

/// A simulated card.
#[derive(Serialize, JsonSchema)]
struct CardEvent {
    /// Its name.
    card: String,
    /// Its reader.
    reader: Option<String>,
    /// Its claimed size in bytes.
    size: u64,
    /// Its backing file.
    file: String,
    /// How many faults it has.
    faults: usize,
}

/// A simulated board.
#[derive(Serialize, JsonSchema)]
struct BoardPlace {
    /// Its name.
    board: String,
    /// The reader whose card it takes.
    reader: String,
    /// Whether it is switched on in the background.
    on: bool,
    /// How many faults it has.
    faults: usize,
}

pub(crate) fn run(ui: &Ui, path: Option<&Path>, args: &RackArgs) -> Outcome {
    if let RackAction::New { dir } = &args.action {
        return make(ui, dir);
    }
    let path = path.ok_or_else(|| {
        Message::new(Exit::Usage, "which rack?")
            .remedy("--rack FILE, or the environment variable PINEWRIT_RACK")
            .remedy("`pinewrit rack new DIR` creates one")
    })?;
    match &args.action {
        RackAction::PowerOn { board, background } => {
            return power::on(ui, path, board, *background);
        }
        RackAction::PowerOff { board } => return power::off(ui, path, board),
        _ => {}
    }
    let mut rack = Rack::open(path).map_err(|e| words::rack_error(&e))?;
    let changed = match &args.action {
        RackAction::Insert { card, reader } => rack
            .insert(card, reader)
            .map(|()| Some(format!("{card} is in {reader} now"))),
        RackAction::Remove { card } => rack
            .remove(card)
            .map(|reader| Some(format!("{card} is out of {reader}"))),
        RackAction::Swap { first, second } => rack
            .swap(first, second)
            .map(|()| Some(format!("{first} and {second} have swapped their cards"))),
        _ => Ok(None),
    };
    let changed = changed.map_err(|e| words::rack_error(&e))?;
    tell(ui, path, &rack);
    ui.result(match changed {
        Some(text) => format!("{text}\n"),
        None => show(&rack),
    });
    Ok(())
}

fn tell(ui: &Ui, path: &Path, rack: &Rack) {
    let readers = rack.readers();
    ui.event(&RackEvent {
        command: "rack",
        rack: path.display().to_string(),
        readers: readers
            .iter()
            .map(|(reader, holds)| ReaderEvent {
                reader,
                holds: holds.as_deref(),
            })
            .collect(),
        cards: rack
            .cards()
            .into_iter()
            .map(|place| CardEvent {
                card: place.card,
                reader: place.reader,
                size: place.size,
                file: place.file.display().to_string(),
                faults: place.faults,
            })
            .collect(),
        boards: rack
            .boards()
            .into_iter()
            .map(|board| BoardPlace {
                on: power::is_on(&board),
                board: board.name,
                reader: board.reader,
                faults: board.faults.len(),
            })
            .collect(),
    });
}

fn make(ui: &Ui, dir: &Path) -> Outcome {
    let failed = |error: std::io::Error| {
        Message::new(
            Exit::Usage,
            format!("no rack can be created in {}", dir.display()),
        )
        .fact("system", error.to_string())
    };
    fs::create_dir_all(dir).map_err(failed)?;
    let path = dir.join(NAME);
    if path.exists() {
        return Err(
            Message::new(Exit::Usage, format!("{} already exists", path.display()))
                .remedy("name another directory, or remove it"),
        );
    }
    fs::write(&path, SAMPLE).map_err(failed)?;
    let board = dir.join(BOARD_NAME);
    fs::create_dir_all(board.parent().unwrap_or(dir)).map_err(failed)?;
    fs::write(&board, SAMPLE_BOARD).map_err(failed)?;
    let rack = Rack::open(&path).map_err(|e| words::rack_error(&e))?;
    tell(ui, &path, &rack);
    let good = style::GOOD;
    ui.result(format!(
        "{good}done:{good:#} {} holds made-up readers, cards and a board\n  next      pinewrit --rack {} media\n",
        path.display(),
        path.display()
    ));
    Ok(())
}

fn show(rack: &Rack) -> String {
    let (strong, dim) = (style::STRONG, style::DIM);
    let cards = rack.cards();
    let mut text = String::new();
    for (reader, holds) in rack.readers() {
        let card = cards
            .iter()
            .find(|place| Some(&place.card) == holds.as_ref());
        let what = match card {
            Some(place) => format!(
                "{}, {}{}",
                place.card,
                units::size(place.size),
                faults(place.faults)
            ),
            None => format!("{dim}empty{dim:#}"),
        };
        text += &format!("  {strong}{reader:<12}{strong:#} {what}\n");
    }
    let aside = cards.iter().filter(|place| place.reader.is_none());
    for (index, place) in aside.enumerate() {
        let head = if index == 0 { "aside" } else { "" };
        let size = units::size(place.size);
        text += &format!(
            "  {dim}{head:<12}{dim:#} {}, {size}{}\n",
            place.card,
            faults(place.faults)
        );
    }
    for (index, board) in rack.boards().into_iter().enumerate() {
        let head = if index == 0 { "boards" } else { "" };
        let good = style::GOOD;
        let state = match power::is_on(&board) {
            true => format!("{good}on{good:#}"),
            false => "off".to_owned(),
        };
        text += &format!(
            "  {dim}{head:<12}{dim:#} {}, {state}, takes the card in {}{}\n",
            board.name,
            board.reader,
            faults(board.faults.len())
        );
    }
    text
}

fn faults(count: usize) -> String {
    match count {
        0 => String::new(),
        count => format!(", {}", units::counted(count as u64, "fault")),
    }
}
