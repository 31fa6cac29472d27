//! `pinewrit demo`: the whole work once, with built-in data.

use std::cell::Cell;
use std::fs;
use std::path::{Path, PathBuf};
use std::sync::atomic::{AtomicBool, Ordering};
use std::time::Duration;

use clap::Parser;
use pinewrit_args::{Args, DemoArgs};
use pinewrit_host::{Rack, Readers};
use pinewrit_ui::{Exit, Message, Ui, style, words};

use super::{Outcome, rack, run_in};
use pinewrit_session::{Context, Folders, unit};
use pinewrit_simboard::State;

/// The demo's files: a layout with everything it needs, settings, a rack.
const FILES: &[u8] = include_bytes!(concat!(env!("OUT_DIR"), "/demo.tar"));
/// The readers with the card to write, and with the disk that must not be written.
const CARD: &str = "rack:slot";
const NEXT_CARD: &str = "rack:hub-4";
const SYSTEM_DISK: &str = "rack:bay-1";

/// The folder of the demo, removed at the end if it is a temporary one.
enum Folder {
    Kept(PathBuf),
    Temporary(tempfile::TempDir),
}

impl Folder {
    fn path(&self) -> &Path {
        match self {
            Self::Kept(path) => path,
            Self::Temporary(dir) => dir.path(),
        }
    }
}

/// The demo's files, and the rack that it works with.
struct Demo {
    cx: Context,
    folder: PathBuf,
    steps: Cell<u8>,
}

/// The image that is first built, then written.
const IMAGE: &str = "larkfell-os.img.zst";
/// What the boards of the huts need.
const BOARD: &str = "boards/brindle-b2.toml";
/// The board of hut 3, and the key of its warden.
const HUT_BOARD: &str = "hut-board-3";
const BOARDS_READER: &str = "hut-3";
const KEY: &str = "keys/warden";
/// How long its start takes at most.
const START: Duration = Duration::from_secs(20);
/// Files in the demo's folder that commands refer to.
const NAMED: [&str; 7] = [
    "layout.toml",
    BOARD,
    KEY,
    IMAGE,
    "hut-03.toml",
    "hut-04.toml",
    "huts.toml",
];
/// The rack of the bench.
const BENCH: &str = "bench.toml";
/// A card that has less than it says, and the reader for it.
const LIAR: &str = "liar";
const LIARS_READER: &str = "hub-3";
/// How often somebody looks whether a reader is empty.
const LOOK_EVERY: Duration = Duration::from_millis(20);

pub(crate) fn run(ui: &Ui, args: &DemoArgs) -> Outcome {
    let folder = make_folder(args.dir.as_deref())?;
    let path = |name: &str| folder.path().join(name);
    let folders = Folders::in_folder(&path("state"))?;
    let unpacked = tar::Archive::new(FILES).unpack(folder.path());
    unpacked.map_err(|e| failed(folder.path(), &e))?;
    // A client refuses a private key that others can read.
    let mode = std::os::unix::fs::PermissionsExt::from_mode(0o600);
    fs::set_permissions(path(KEY), mode).map_err(|e| failed(folder.path(), &e))?;
    let opened = Rack::open(&path("rack.toml")).map_err(|e| words::rack_error(&e))?;
    let demo = Demo {
        cx: Context {
            folders,
            own_shelf: Some(path("shelf.toml")),
            ..Context::new(*ui, Readers::Rack(opened))
        },
        folder: folder.path().to_owned(),
        steps: Cell::new(0),
    };
    demo.all_steps()?;

    let good = style::GOOD;
    ui.result(match &folder {
        Folder::Kept(path) => format!(
            "\n{good}the demo is done:{good:#} all files are in {}\n",
            path.display()
        ),
        Folder::Temporary(_) => format!(
            "\n{good}the demo is done{good:#} and its files are removed; \
             `pinewrit demo --dir DIR` keeps them\n"
        ),
    });
    Ok(())
}

impl Demo {
    fn all_steps(&self) -> Outcome {
        self.step(
            "build the system's image from its parts",
            &["build", "layout.toml", "--to", IMAGE, "--size", "196MiB"],
        )?;
        let (card, disk) = (self.tag_of(CARD)?, self.tag_of(SYSTEM_DISK)?);
        self.step(
            "what is connected? (simulated readers)",
            &["media", "--all"],
        )?;
        self.measure_a_liar()?;
        self.step(
            "look into the packed image: does the board start from it?",
            &["inspect", IMAGE, "--board", BOARD],
        )?;
        self.step(
            "put it on the shelf, beside its older version",
            &["shelf", "add", IMAGE, "--board", "Brindle B2"],
        )?;
        self.step("which images are there?", &["shelf", "list", "--all"])?;
        self.must_end(
            Exit::Refused,
            "name the wrong disk, the one that runs the computer",
            &["write", IMAGE, "--to", &disk, "--yes"],
        )?;
        self.step(
            "write it to the card by its name, and read it back",
            &["write", "shelf:larkfell-os", "--to", &card, "--yes"],
        )?;
        self.step("verify the card against its receipt", &["verify", &card])?;
        self.step(
            "add the settings of hut 3",
            &["configure", &card, "--settings", "hut-03.toml", "--yes"],
        )?;
        self.step("look at the finished card", &["inspect", &card])?;
        let next = self.tag_of(NEXT_CARD)?;
        self.step(
            "clone it for hut 4: as new, with identifiers and settings of its own",
            &[
                "clone",
                &card,
                "--to",
                &next,
                "--as-new",
                "--settings",
                "hut-04.toml",
                "--yes",
            ],
        )?;
        self.make_all_huts()?;
        self.first_boot()
    }

    /// The card of hut 3 is put into its board, which is switched on, found, and looked at.
    fn first_boot(&self) -> Outcome {
        let path = self.folder.join(BENCH);
        let card = self.card_of(&path, "larkfell-03")?;
        let mut rack = Rack::open(&path).map_err(|e| words::rack_error(&e))?;
        let inserted = rack.insert(&card, BOARDS_READER);
        inserted.map_err(|e| words::rack_error(&e))?;
        let typed = ["rack", "power-on", HUT_BOARD, "--background"];
        self.head(
            "the first boot: switch on the board of hut 3 (a stand-in)",
            BENCH,
            &typed,
        );
        let board = rack::power::start(&rack, HUT_BOARD)?;
        match board.settled(START) {
            State::Up(Some(_)) => self.cx.ui.result(format!("{HUT_BOARD} is up\n")),
            state => {
                let what = format!("the demo's board does not start: {state:?}");
                return Err(Message::new(Exit::Internal, what));
            }
        }
        let bench = self.at(&path)?;
        bench.step_at("where is it?", BENCH, &["find", "larkfell-03"])?;
        let wanted = [
            "commission",
            "larkfell-03",
            "--roster",
            "huts.toml",
            "--key",
            KEY,
        ];
        bench.step_at("log in, and compare it with its settings", BENCH, &wanted)
    }

    /// The card that a unit is on.
    fn card_of(&self, rack: &Path, unit: &str) -> Result<String, Message> {
        let known = unit::known(&self.at(rack)?.cx, unit, unit::Papers::default())?;
        let tag = known.record.and_then(|record| record.tag);
        let mut rack = Rack::open(rack).map_err(|e| words::rack_error(&e))?;
        for place in rack
            .cards()
            .into_iter()
            .filter(|place| place.reader.is_none())
        {
            rack.insert(&place.card, BOARDS_READER)
                .map_err(|e| words::rack_error(&e))?;
            let mut media = rack.media().into_iter();
            let is_it = media.any(|medium| {
                medium.identity.port == BOARDS_READER
                    && medium.tag.map(|tag| tag.to_string()) == tag
            });
            rack.remove(&place.card)
                .map_err(|e| words::rack_error(&e))?;
            if is_it {
                return Ok(place.card);
            }
        }
        Err(Message::new(
            Exit::Internal,
            format!("the demo's card of {unit} is gone"),
        ))
    }

    /// The same files, with what is in a rack's readers now.
    fn at(&self, rack: &Path) -> Result<Self, Message> {
        let rack = Rack::open(rack).map_err(|e| words::rack_error(&e))?;
        Ok(Self {
            cx: Context {
                folders: self.cx.folders.clone(),
                own_shelf: self.cx.own_shelf.clone(),
                ..Context::new(self.cx.ui, Readers::Rack(rack))
            },
            folder: self.folder.clone(),
            steps: self.steps.clone(),
        })
    }

    /// A card that has less than it says is put into a reader, and taken out again.
    fn measure_a_liar(&self) -> Outcome {
        let path = self.folder.join("rack.toml");
        let mut rack = Rack::open(&path).map_err(|e| words::rack_error(&e))?;
        let inserted = rack.insert(LIAR, LIARS_READER);
        inserted.map_err(|e| words::rack_error(&e))?;
        let with_liar = self.at(&path)?;
        let tag = with_liar.tag_of(&format!("rack:{LIARS_READER}"))?;
        let told = with_liar.must_end(
            Exit::Medium,
            "a card for 64 GB that was cheap: is it what it says?",
            &["measure", &tag, "--size"],
        );
        self.steps.set(with_liar.steps.get());
        let removed = rack.remove(LIAR).map_err(|e| words::rack_error(&e));
        told.and(removed.map(drop))
    }

    /// All twelve huts at a bench with four readers, where somebody changes the cards.
    fn make_all_huts(&self) -> Outcome {
        let path = self.folder.join(BENCH);
        let bench = self.at(&path)?;
        let readers = ["--to", "rack:bench-1", "--to", "rack:bench-2"];
        let more = ["--to", "rack:bench-3", "--to", "rack:bench-4"];
        let is_over = AtomicBool::new(false);
        let made = std::thread::scope(|scope| {
            scope.spawn(|| change_cards(&path, &is_over));
            let typed = [&["batch", "huts.toml"][..], &readers, &more].concat();
            let made = bench.step_at(
                "make all twelve huts: four readers, a box of cards, one of them bad",
                BENCH,
                &typed,
            );
            is_over.store(true, Ordering::Relaxed);
            made
        });
        self.steps.set(bench.steps.get());
        made?;
        self.step_at(
            "a year later: what is known about hut 7?",
            BENCH,
            &["ledger", "show", "larkfell-07"],
        )
    }

    /// Shows a command as it would be typed, and runs it.
    fn step(&self, what: &str, typed: &[&str]) -> Outcome {
        self.step_at(what, "rack.toml", typed)
    }

    fn step_at(&self, what: &str, rack: &str, typed: &[&str]) -> Outcome {
        let number = self.head(what, rack, typed);
        let here = |word: &&str| match NAMED.contains(word) {
            true => self.folder.join(word).into_os_string(),
            false => word.into(),
        };
        let words = std::iter::once("pinewrit".into()).chain(typed.iter().map(here));
        let args = Args::try_parse_from(words)
            .map_err(|e| Message::new(Exit::Internal, format!("the demo's step {number}: {e}")))?;
        run_in(&self.cx, args.command)
    }

    /// Shows a command as it would be typed; returns the step's number.
    fn head(&self, what: &str, rack: &str, typed: &[&str]) -> u8 {
        let (strong, dim) = (style::STRONG, style::DIM);
        let number = self.steps.get() + 1;
        self.steps.set(number);
        let ui = &self.cx.ui;
        ui.result(format!("\n{strong}step {number}: {what}{strong:#}\n"));
        let rack = match typed[0] {
            // These need no readers.
            "build" | "shelf" => String::new(),
            "inspect" if typed[1] == IMAGE => String::new(),
            _ => format!("--rack {rack} "),
        };
        let quoted = |word: &&str| match word.contains(' ') {
            true => format!("{word:?}"),
            false => (*word).to_owned(),
        };
        let words: Vec<String> = typed.iter().map(quoted).collect();
        ui.result(format!(
            "{dim}$ pinewrit {rack}{}{dim:#}\n",
            words.join(" ")
        ));
        number
    }

    /// A command that must end like this; its message is shown.
    fn must_end(&self, exit: Exit, what: &str, typed: &[&str]) -> Outcome {
        match self.step(what, typed) {
            Err(message) if message.exit == exit => {
                self.cx.ui.result(message.to_text());
                Ok(())
            }
            Err(message) => Err(message),
            Ok(()) => Err(Message::new(
                Exit::Internal,
                "the demo's disk or card was taken for a good one",
            )),
        }
    }

    /// The tag of the medium in a reader.
    fn tag_of(&self, reader: &str) -> Result<String, Message> {
        let media = self.cx.readers.media().unwrap_or_default();
        let medium = media.into_iter().find(|medium| medium.name.0 == reader);
        let tag = medium.and_then(|medium| medium.tag);
        tag.map(|tag| tag.to_string())
            .ok_or_else(|| Message::new(Exit::Internal, format!("the demo's rack lacks {reader}")))
    }
}

/// Puts a card from the box into each reader that becomes empty.
fn change_cards(rack: &Path, is_over: &AtomicBool) {
    while !is_over.load(Ordering::Relaxed) {
        std::thread::sleep(LOOK_EVERY);
        let Ok(mut rack) = Rack::open(rack) else {
            continue;
        };
        let cards = rack.cards();
        // What has been in a reader is finished.
        let mut fresh = cards
            .iter()
            .filter(|card| card.reader.is_none() && !card.file.exists());
        for (reader, held) in rack.readers() {
            if held.is_none()
                && reader != BOARDS_READER
                && let Some(card) = fresh.next()
            {
                let _ = rack.insert(&card.card, &reader);
            }
        }
    }
}

fn make_folder(dir: Option<&Path>) -> Result<Folder, Message> {
    let Some(dir) = dir else {
        return tempfile::Builder::new()
            .prefix("pinewrit-demo-")
            .tempdir()
            .map(Folder::Temporary)
            .map_err(|e| failed(&std::env::temp_dir(), &e));
    };
    fs::create_dir_all(dir).map_err(|e| failed(dir, &e))?;
    let mut entries = fs::read_dir(dir).map_err(|e| failed(dir, &e))?;
    if entries.next().is_some() {
        return Err(
            Message::new(Exit::Usage, format!("{} is not empty", dir.display()))
                .remedy("name a new directory for the demo"),
        );
    }
    Ok(Folder::Kept(dir.to_owned()))
}

fn failed(path: &Path, error: &std::io::Error) -> Message {
    let what = format!("{} cannot be written", path.display());
    Message::new(Exit::Internal, what).fact("system", error.to_string())
}
