//! Which medium is meant, and whether it may be opened: by tag, device path or card file.

use std::path::{Path, PathBuf};

use pinewrit_args::MediumArgs;
use pinewrit_core::state::Subject;
use pinewrit_host::{BlockName, Footing, Hold, MediumError, MediumFacts, Permits, Tag, Verdict};
use pinewrit_image::Location;
use pinewrit_ui::{Answer, Exit, MediumName, Message, Ui, words};

use crate::Context;
use crate::Outcome;

/// The named medium.
pub struct Chosen {
    /// Where it is opened.
    pub path: PathBuf,
    /// Its identity; `None` for card files.
    pub facts: Option<MediumFacts>,
    /// It was given by its tag.
    by_tag: bool,
}

/// Finds the medium that `named` names. A card file that is `to_be_made` need not exist.
pub fn find(cx: &Context, named: &Path, to_be_made: bool) -> Result<Chosen, Message> {
    let text = named.to_str().filter(|text| !text.contains('/'));
    let tag = text.and_then(Tag::parse);
    let whole = cx.readers.whole_at(named);
    let media = match (&tag, &whole) {
        (None, None) => Vec::new(),
        // Card files need none of this; devices are judged again when they are opened.
        _ => cx.readers.media().unwrap_or_default(),
    };
    let tagged = media
        .iter()
        .find(|medium| medium.tag == tag && tag.is_some());
    match (tagged, named.exists()) {
        (Some(medium), true) => Err(Message::new(
            Exit::Usage,
            format!(
                "{} is a file here, and the tag of a medium",
                named.display()
            ),
        )
        .remedy(format!("--to ./{} for the file", named.display()))
        .remedy(format!("--to {} for the medium", medium.path.display()))),
        (Some(medium), false) => Ok(Chosen {
            path: medium.path.clone(),
            facts: Some(medium.clone()),
            by_tag: true,
        }),
        (None, false) if !to_be_made && whole.is_none() => match tag {
            Some(tag) => Err(unknown(&tag, &media)),
            None => Ok(plain(named, None)),
        },
        (None, _) => {
            let own = |medium: &&MediumFacts| Some(&medium.name) == whole.as_ref();
            Ok(plain(named, media.iter().find(own).cloned()))
        }
    }
}

fn plain(path: &Path, facts: Option<MediumFacts>) -> Chosen {
    Chosen {
        path: path.to_owned(),
        facts,
        by_tag: false,
    }
}

fn unknown(tag: &Tag, media: &[MediumFacts]) -> Message {
    let message = Message::new(Exit::Usage, format!("no medium has the tag {tag}"));
    let near = media.iter().filter_map(|medium| {
        let own = medium.tag.as_ref().filter(|own| own.distance(tag) <= 2)?;
        Some(format!("{own}  {}", describe(medium)))
    });
    near.fold(message, |message, text| message.fact("like it", text))
        .remedy("`pinewrit media` lists connected media")
        .remedy("for a new card file of that name, add its size: --size 8GB")
}

/// The medium that a source names by its tag, or in a rack; `None` for files and URLs.
pub fn named_as_source(cx: &Context, source: &Location) -> Option<Chosen> {
    let path = source.path().filter(|path| !path.exists())?;
    // If it is not a medium either, it is reported as a missing file.
    let chosen = find(cx, path, false).ok()?;
    chosen.tag().is_some().then_some(chosen)
}

/// Extensions of files that are not card files.
const OTHER_FORMS: [&str; 20] = [
    "bz2", "lz4", "lzma", "zip", "7z", "tar", "tgz", "txz", "rar", "gz", "xz", "zst", "qcow2",
    "qcow", "vmdk", "vdi", "vhd", "vhdx", "dmg", "iso",
];

/// A new file whose name promises a format that it would not have.
pub fn must_not_end_so(path: &Path, but: &[&str]) -> Outcome {
    let ending = path.extension().and_then(|ending| ending.to_str());
    let ending = ending.map(str::to_ascii_lowercase).unwrap_or_default();
    let is_other = OTHER_FORMS.contains(&ending.as_str()) && !but.contains(&ending.as_str());
    if !is_other || path.exists() || path.starts_with("/dev") {
        return Ok(());
    }
    let what = format!("{} would not be what .{ending} promises", path.display());
    let message =
        Message::new(Exit::Usage, what).remedy("a name that ends in .img: the bytes of the medium");
    Err(match but {
        [] => message,
        but => message.remedy(format!("or .img.{}: packed", but.join(", .img."))),
    })
}

/// Refuses the disk that runs the computer, before anything else.
pub fn must_not_be_system(chosen: &Chosen) -> Outcome {
    match chosen.facts.as_ref().map(|facts| &facts.verdict) {
        Some(verdict @ Verdict::System(_)) => {
            let refused = MediumError::Refused {
                path: chosen.path.clone(),
                verdict: verdict.clone(),
            };
            Err(words::named_medium_error(&chosen.name(), &refused))
        }
        _ => Ok(()),
    }
}

/// Refuses to write a medium that holds something needed meanwhile, or lies on it: the message
/// names these `things`.
pub fn must_not_meet(cx: &Context, chosen: &Chosen, things: &[(&str, Footing)]) -> Outcome {
    let own = cx.readers.footing(&chosen.path);
    let Some((thing, _)) = things.iter().find(|(_, footing)| own.meets(footing)) else {
        return Ok(());
    };
    let name = chosen.name();
    let what = format!("{name} cannot be written: {thing} is on it, or is the same thing");
    Err(Message::new(Exit::Refused, what)
        .fact("state", "nothing was changed")
        .remedy(format!(
            "name another medium, or put {thing} somewhere else"
        )))
}

/// A state folder on the medium itself would be overwritten, or keep it in use.
pub fn must_not_hold_records(cx: &Context, chosen: &Chosen) -> Outcome {
    let state = cx.folders.state()?;
    let footing = cx.readers.footing(state.path());
    must_not_meet(cx, chosen, &[("the state directory", footing)])
}

/// A medium in a few words.
pub fn describe(medium: &MediumFacts) -> String {
    let identity = &medium.identity;
    let parts = [&identity.maker, &identity.model];
    let mut words: Vec<String> = parts.into_iter().flatten().cloned().collect();
    words.push(identity.bus.to_string());
    words.push(pinewrit_ui::units::size(identity.size));
    format!("{} ({})", words.join(" "), medium.path.display())
}

impl Chosen {
    /// Its name in messages: its tag, or the card file's name.
    pub fn name(&self) -> String {
        match self.tag() {
            Some(tag) => tag.to_string(),
            None if self.path.starts_with("/dev") => self.path.display().to_string(),
            None => {
                let name = self.path.file_name().unwrap_or(self.path.as_os_str());
                name.to_string_lossy().into_owned()
            }
        }
    }

    /// Its name in lines of `--json`.
    pub fn medium_name(&self) -> MediumName {
        MediumName {
            medium: self.path.display().to_string(),
            tag: self.tag().map(ToString::to_string),
        }
    }

    /// The key of its records: its tag, or the card file's full path.
    pub fn key(&self) -> String {
        match self.tag() {
            Some(tag) => tag.to_string(),
            None => {
                let full = std::path::absolute(&self.path).unwrap_or(self.path.clone());
                full.display().to_string()
            }
        }
    }

    /// The tag, for devices.
    pub fn tag(&self) -> Option<&Tag> {
        self.facts.as_ref()?.tag.as_ref()
    }

    /// The subject of its receipts; `key` is [`Chosen::key`].
    pub fn subject<'a>(&'a self, key: &'a str) -> Subject<'a> {
        Subject {
            tag: self.tag().is_some().then_some(key),
            place: Path::new(key),
            partition: None,
        }
    }

    /// What the arguments alone say about the medium.
    pub fn given_permits(&self, args: &MediumArgs) -> Permits {
        Permits {
            chosen: self.tag().filter(|_| self.by_tag).cloned(),
            confirmed: args.confirm.clone(),
        }
    }

    /// Frees the medium and asks for its tag, if that is needed and allowed. What must not be
    /// written is refused when it is opened.
    pub fn permits(&mut self, cx: &Context, args: &MediumArgs) -> Result<Permits, Message> {
        let mut permits = self.given_permits(args);
        let Some(facts) = &self.facts else {
            return Ok(permits);
        };
        if let Verdict::Busy(holds) = &facts.verdict
            && self.may_unmount(&cx.ui, holds, args)
        {
            let name = facts.name.clone();
            self.free(cx, &name)?;
        }
        let Some(facts) = &self.facts else {
            return Ok(permits);
        };
        if let (Verdict::Unsure(doubts), Some(tag)) = (&facts.verdict, &facts.tag)
            && args.confirm.as_ref() != Some(tag)
        {
            let refusal = words::unsure(&describe(facts), tag, doubts);
            let typed = match &args.confirm {
                Some(_) => None,
                None => cx.ui.ask_text(words::doubts(&describe(facts), tag, doubts)),
            };
            if typed.as_deref().and_then(Tag::parse).as_ref() != Some(tag) {
                return Err(refusal);
            }
            permits.confirmed = Some(tag.clone());
        }
        Ok(permits)
    }

    /// A medium that is copied must not change meanwhile: frees it from mounts for writing, if that
    /// is allowed. The disk that runs the computer never holds still.
    pub fn hold_still(&mut self, cx: &Context, args: &MediumArgs, is_dry: bool) -> Outcome {
        let Some(facts) = &self.facts else {
            return Ok(());
        };
        let name = self.name();
        let refuse = |verdict: Verdict| {
            let refused = MediumError::Refused {
                path: self.path.clone(),
                verdict,
            };
            words::named_medium_error(&name, &refused)
                .fact("state", "it cannot be copied while it may change")
        };
        match &facts.verdict {
            Verdict::System(_) => return Err(refuse(facts.verdict.clone())),
            Verdict::Busy(holds) => {
                let is_still = |hold: &&Hold| {
                    matches!(
                        hold,
                        Hold::Mounted {
                            is_read_only: true,
                            ..
                        }
                    )
                };
                let moving: Vec<Hold> = holds
                    .iter()
                    .filter(|hold| !is_still(hold))
                    .cloned()
                    .collect();
                if moving.is_empty() {
                    return Ok(());
                }
                if is_dry || !self.may_unmount(&cx.ui, &moving, args) {
                    return Err(refuse(Verdict::Busy(moving)));
                }
            }
            _ => return Ok(()),
        }
        let name = facts.name.clone();
        self.free(cx, &name).map(drop)
    }

    fn may_unmount(&self, ui: &Ui, holds: &[Hold], args: &MediumArgs) -> bool {
        let points: Vec<String> = holds
            .iter()
            .filter_map(|hold| match hold {
                Hold::Mounted { point, .. } => Some(point.display().to_string()),
                Hold::MountedElsewhere { point, process, .. } => Some(format!(
                    "{} (where {} sees it)",
                    point.display(),
                    process.name
                )),
                _ => None,
            })
            .collect();
        // Only mounts can be freed from here.
        if points.len() < holds.len() {
            return false;
        }
        args.unmount || ui.ask(format!("Unmount {}?", points.join(" and "))) == Answer::Yes
    }

    /// Unmounts the whole medium; returns where it was mounted.
    pub fn free(&mut self, cx: &Context, name: &BlockName) -> Result<Vec<PathBuf>, Message> {
        let points = cx
            .readers
            .unmount(name)
            .map_err(|e| words::unmount_error(&e))?;
        for point in &points {
            cx.ui.say(format!("unmounted {}\n", point.display()));
        }
        self.facts = cx.readers.medium(name).ok().flatten();
        Ok(points)
    }
}
