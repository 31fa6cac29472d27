//! `pinewrit demo`: the whole work once, with data that is compiled in.

use std::cell::Cell;
use std::fs;
use std::path::{Path, PathBuf};

use pinewrit_host::{Rack, Readers};
use pinewrit_image::Location;

use super::{Outcome, build, configure, inspect, media, records, verify, write};
use crate::args::{
    BuildArgs, ChangeArgs, ConfigureArgs, DemoArgs, InspectArgs, MediaArgs, MediumArgs, SourceArgs,
    VerifyArgs, WriteArgs,
};
use crate::exit::Exit;
use crate::explain;
use crate::message::Message;
use crate::ui::{Ui, style};

/// The demo's files: a layout with all that it takes, settings, a rack.
const FILES: &[u8] = include_bytes!(concat!(env!("OUT_DIR"), "/demo.tar"));
/// Size of the demo's image: the layout's boot partition, and a small system.
const IMAGE_SIZE: u64 = 196 << 20;
/// The readers that hold the card to be written, and the disk that must not be.
const CARD: &str = "rack:slot";
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

/// The demo's files, and the readers that it works with.
struct Demo<'a> {
    ui: &'a Ui,
    readers: Readers,
    image: PathBuf,
    layout: PathBuf,
    settings: PathBuf,
    steps: Cell<u8>,
}

pub(crate) fn run(ui: &Ui, args: &DemoArgs) -> Outcome {
    let folder = make_folder(args.dir.as_deref())?;
    let path = |name: &str| folder.path().join(name);
    records::keep_in(path("state"))?;
    let (image, rack) = (path("larkfell-os.img.zst"), path("rack.toml"));
    let unpacked = tar::Archive::new(FILES).unpack(folder.path());
    unpacked.map_err(|e| failed(folder.path(), &e))?;
    let opened = Rack::open(&rack).map_err(|e| explain::rack_error(&e))?;
    let demo = Demo {
        ui,
        readers: Readers::Rack(opened),
        image,
        layout: path("layout.toml"),
        settings: path("hut-03.toml"),
        steps: Cell::new(0),
    };
    demo.build()?;
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

impl Demo<'_> {
    fn build(&self) -> Outcome {
        let image = "larkfell-os.img.zst";
        self.step(
            "build the system's image from its parts",
            &format!("pinewrit build layout.toml --to {image} --size 196MiB"),
        );
        let args = BuildArgs {
            size: Some(IMAGE_SIZE),
            ..BuildArgs::plain(self.layout.clone(), self.image.clone())
        };
        build::run(self.ui, &self.readers, &args)
    }

    fn all_steps(&self) -> Outcome {
        let card = self.tag_of(CARD)?;
        let disk = self.tag_of(SYSTEM_DISK)?;
        let rack = "pinewrit --rack rack.toml";

        self.step(
            "what is plugged in? (simulated readers)",
            &format!("{rack} media --all"),
        );
        let all = MediaArgs {
            all: true,
            watch: false,
        };
        media::run(self.ui, &self.readers, &all)?;

        self.step(
            "look into the packed image",
            "pinewrit inspect larkfell-os.img.zst",
        );
        self.inspect(Location::Path(self.image.clone()))?;

        let image = "larkfell-os.img.zst";
        self.step(
            "name the wrong disk, the one that runs the computer",
            &format!("{rack} write {image} --to {disk} --yes"),
        );
        self.be_refused(&disk)?;

        self.step(
            "write it to the card, and read it back",
            &format!("{rack} write {image} --to {card}"),
        );
        self.write(&card)?;

        self.step(
            "compare the card with the receipt of its writing",
            &format!("{rack} verify {card}"),
        );
        let args = VerifyArgs {
            medium: PathBuf::from(&card),
            image: None,
            options: SourceArgs::plain(),
            every_byte: false,
            receipt: None,
        };
        verify::run(self.ui, &self.readers, &args)?;

        self.step(
            "give it the settings of hut 3",
            &format!("{rack} configure {card} --settings hut-03.toml"),
        );
        let args = ConfigureArgs {
            change: ChangeArgs {
                medium: PathBuf::from(&card),
                access: MediumArgs::default(),
                dry_run: false,
                yes: true,
            },
            settings: self.settings.clone(),
            grow: false,
            intake: None,
        };
        configure::run(self.ui, &self.readers, &args)?;

        self.step(
            "look at the finished card",
            &format!("{rack} inspect {card}"),
        );
        self.inspect(Location::Path(PathBuf::from(&card)))
    }

    fn step(&self, what: &str, command: &str) {
        let (strong, dim) = (style::STRONG, style::DIM);
        let number = self.steps.get() + 1;
        self.steps.set(number);
        self.ui
            .result(format!("\n{strong}step {number}: {what}{strong:#}\n"));
        if !command.is_empty() {
            self.ui.result(format!("{dim}$ {command}{dim:#}\n"));
        }
    }

    /// The tag of the medium in a reader.
    fn tag_of(&self, reader: &str) -> Result<String, Message> {
        let media = self.readers.media().unwrap_or_default();
        let medium = media.into_iter().find(|medium| medium.name.0 == reader);
        let tag = medium.and_then(|medium| medium.tag);
        tag.map(|tag| tag.to_string())
            .ok_or_else(|| Message::new(Exit::Internal, format!("the demo's rack lacks {reader}")))
    }

    fn inspect(&self, source: Location) -> Outcome {
        let args = InspectArgs {
            source,
            options: SourceArgs::plain(),
        };
        inspect::run(self.ui, &self.readers, &args)
    }

    fn write(&self, tag: &str) -> Outcome {
        let image = Location::Path(self.image.clone());
        let args = WriteArgs {
            yes: true,
            ..WriteArgs::plain(image, PathBuf::from(tag))
        };
        write::run(self.ui, &self.readers, &args)
    }

    /// A write that has to end with a refusal, which is shown.
    fn be_refused(&self, tag: &str) -> Outcome {
        match self.write(tag) {
            Err(message) if message.exit == Exit::Refused => {
                self.ui.result(message.to_text());
                Ok(())
            }
            Err(message) => Err(message),
            Ok(()) => Err(Message::new(
                Exit::Internal,
                "the demo's system disk was written",
            )),
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
                .remedy("name a new folder for the demo"),
        );
    }
    Ok(Folder::Kept(dir.to_owned()))
}

fn failed(path: &Path, error: &std::io::Error) -> Message {
    let what = format!("{} cannot be written", path.display());
    Message::new(Exit::Internal, what).fact("system", error.to_string())
}
