//! Intakes for systems with their own ways, described in TOML: files made from templates, links,
//! changes to texts, each with a condition.
//!
//! Templates see the settings as `settings`; `docs/formats.md` describes the format and names.

mod bounded;
mod values;

use std::sync::atomic::{AtomicU32, Ordering};

use bounded::Fault;
use minijinja::{AutoEscape, Environment, ErrorKind, UndefinedBehavior, Value};
use pinewrit_settings::CheckedSettings;
use pinewrit_volume::Site;
use pinewrit_volume::files::{
    Edit, FilesError, FindError, Place, PlaceError, Rights, above, edit_text, find_place,
};
use serde::Deserialize;

use crate::intake::{ChangeKind, FileChange};

/// Longer results are not settings.
const MAX_RESULT: usize = 1 << 20;
/// The most steps of a template, which ends endless loops.
const FUEL: u64 = 1_000_000;
/// The most passwords that a template may hash: each takes time, on purpose.
const MAX_HASHES: u32 = 100;

/// An intake that is described in a file.
#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
pub struct CustomIntake {
    /// Its name in reports.
    pub name: String,
    /// What it does, in order.
    #[serde(rename = "step")]
    steps: Vec<Step>,
}

#[derive(Clone, Debug, PartialEq, Eq, Deserialize)]
#[serde(deny_unknown_fields, rename_all = "kebab-case")]
struct Step {
    /// Where: `boot:/…`, `root:/…`.
    place: String,
    /// An expression; if it is not true, nothing is done.
    when: Option<String>,
    /// A template: the file's content.
    content: Option<String>,
    /// A template: `key=value` to set in the text.
    set: Option<String>,
    /// A template: a line to have in the text.
    line: Option<String>,
    /// The file is removed.
    #[serde(default)]
    remove: bool,
    /// Permissions, in octal digits.
    mode: Option<String>,
    /// It holds secrets, and is not shown.
    #[serde(default)]
    secret: bool,
}

/// Why an intake does not work.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum CustomError {
    /// The file is not an intake.
    #[error("it is not an intake: {0}")]
    Form(String),
    /// A place is invalid.
    #[error(transparent)]
    Place(#[from] PlaceError),
    /// A template or an expression is wrong. The values of settings are not in the text.
    #[error("step {step}: {what}")]
    Template {
        /// Number of the step, from 1.
        step: usize,
        /// What is wrong.
        what: String,
    },
    /// A place does not exist on the medium.
    #[error("step {step}: there is no file system at {place}")]
    NoPlace {
        /// Number of the step, from 1.
        step: usize,
        /// The place.
        place: String,
    },
    /// Files could not be read or changed.
    #[error(transparent)]
    Files(#[from] FilesError),
    /// The medium could not be read.
    #[error(transparent)]
    Disk(#[from] pinewrit_disk::DiskError),
    /// A password could not be hashed.
    #[error(transparent)]
    Hash(#[from] pinewrit_settings::HashError),
}

impl CustomIntake {
    /// Reads an intake; templates are checked as well.
    ///
    /// # Errors
    /// [`CustomError`].
    pub fn parse(text: &str) -> Result<Self, CustomError> {
        let intake: Self =
            toml::from_str(text).map_err(|error| CustomError::Form(error.to_string()))?;
        let environment = environment();
        for (index, step) in intake.steps.iter().enumerate() {
            step.place.parse::<Place>()?;
            let wrong = |what: String| CustomError::Template {
                step: index + 1,
                what,
            };
            let does = [&step.content, &step.set, &step.line];
            let count =
                does.iter().filter(|what| what.is_some()).count() + usize::from(step.remove);
            if count != 1 {
                return Err(wrong("one of content, set, line and remove".to_owned()));
            }
            for template in does.into_iter().flatten() {
                let parsed = environment.template_from_str(template);
                parsed.map_err(|error| wrong(told(&error)))?;
            }
            if let Some(when) = &step.when {
                let parsed = environment.compile_expression(when);
                parsed.map_err(|error| wrong(told(&error)))?;
            }
            if step
                .mode
                .as_deref()
                .is_some_and(|mode| octal(mode).is_none())
            {
                return Err(wrong("mode is written in octal digits".to_owned()));
            }
        }
        Ok(intake)
    }

    pub(crate) fn apply(
        &self,
        site: &mut Site<'_>,
        settings: &CheckedSettings,
    ) -> Result<Vec<FileChange>, CustomError> {
        let environment = environment();
        let values = Value::from_serialize(values::of(settings)?);
        let mut changes = Vec::new();
        for (index, step) in self.steps.iter().enumerate() {
            let work = Work {
                environment: &environment,
                values: &values,
                number: index + 1,
                step,
            };
            if let Some(change) = work.carry_out(site)? {
                note(&mut changes, change);
            }
        }
        Ok(changes)
    }
}

/// Several steps may change one file.
fn note(changes: &mut Vec<FileChange>, change: FileChange) {
    match changes.iter_mut().find(|known| known.path == change.path) {
        Some(known) => {
            if known.kind == ChangeKind::Same {
                known.kind = change.kind;
            }
            known.diff += &change.diff;
            known.hidden |= change.hidden;
        }
        None => changes.push(change),
    }
}

fn environment() -> Environment<'static> {
    let mut environment = Environment::new();
    environment.set_undefined_behavior(UndefinedBehavior::Chainable);
    environment.set_auto_escape_callback(|_| AutoEscape::None);
    environment.set_keep_trailing_newline(true);
    environment.set_fuel(Some(FUEL));
    let hashes_left = AtomicU32::new(MAX_HASHES);
    environment.add_filter("sha512crypt", move |text: String| {
        let take = |left: u32| left.checked_sub(1);
        let taken = hashes_left.try_update(Ordering::Relaxed, Ordering::Relaxed, take);
        if taken.is_err() {
            let what = format!("more than {MAX_HASHES} passwords");
            return Err(minijinja::Error::new(ErrorKind::InvalidOperation, what));
        }
        let secret = pinewrit_settings::Password::Plain(pinewrit_settings::Secret::new(text));
        // An empty hash would be an account without a password.
        secret
            .hashed(None)
            .map_err(|error| minijinja::Error::new(ErrorKind::InvalidOperation, error.to_string()))
    });
    environment.add_filter("blake3", |text: String| {
        blake3::hash(text.as_bytes()).to_hex().to_string()
    });
    environment
}

/// The kind of an error and its line, without the values that led to it.
fn told(error: &minijinja::Error) -> String {
    with_line(&fault(error))
}

fn fault(error: &minijinja::Error) -> Fault {
    Fault {
        what: error.kind().to_string(),
        line: error.line(),
    }
}

fn with_line(fault: &Fault) -> String {
    match fault.line {
        Some(line) => format!("{} in its line {line}", fault.what),
        None => fault.what.clone(),
    }
}

/// Takes a result up to [`MAX_RESULT`].
struct Limited(Vec<u8>);

impl std::io::Write for Limited {
    fn write(&mut self, bytes: &[u8]) -> std::io::Result<usize> {
        if self.0.len() + bytes.len() <= MAX_RESULT {
            self.0.extend(bytes);
            Ok(bytes.len())
        } else {
            Err(std::io::ErrorKind::FileTooLarge.into())
        }
    }

    fn flush(&mut self) -> std::io::Result<()> {
        Ok(())
    }
}

/// An environment that ends a template after a number of steps.
fn with_fuel(environment: &Environment<'static>, fuel: u64) -> Environment<'static> {
    let mut environment = environment.clone();
    environment.set_fuel(Some(fuel));
    environment
}

fn octal(text: &str) -> Option<u16> {
    let mode = u16::from_str_radix(text, 8).ok();
    mode.filter(|mode| *mode <= 0o7777)
}

struct Work<'w> {
    environment: &'w Environment<'static>,
    values: &'w Value,
    number: usize,
    step: &'w Step,
}

impl Work<'_> {
    /// Runs work that may need too many resources.
    fn bounded(
        &self,
        work: &dyn Fn(&Environment<'static>) -> Result<String, Fault>,
    ) -> Result<String, CustomError> {
        let done = bounded::run(FUEL, &|fuel| work(&with_fuel(self.environment, fuel)));
        done.map_err(|fault| CustomError::Template {
            step: self.number,
            what: with_line(&fault),
        })
    }

    fn render(&self, template: &str) -> Result<String, CustomError> {
        self.bounded(&|environment| {
            let parsed = environment.template_from_str(template);
            let parsed = parsed.map_err(|error| fault(&error))?;
            let mut out = Limited(Vec::new());
            let rendered = parsed.render_captured_to(self.values, &mut out);
            rendered.map_err(|error| match error.kind() {
                ErrorKind::WriteFailure => Fault {
                    what: format!("its result has more than {MAX_RESULT} bytes"),
                    line: error.line(),
                },
                _ => fault(&error),
            })?;
            Ok(String::from_utf8_lossy(&out.0).into_owned())
        })
    }

    fn is_wanted(&self) -> Result<bool, CustomError> {
        let Some(when) = &self.step.when else {
            return Ok(true);
        };
        let is_true = self.bounded(&|environment| {
            let expression = environment.compile_expression(when);
            let expression = expression.map_err(|error| fault(&error))?;
            let value = expression.eval(self.values);
            let value = value.map_err(|error| fault(&error))?;
            Ok(value.is_true().to_string())
        })?;
        Ok(is_true == "true")
    }

    fn carry_out(&self, site: &mut Site<'_>) -> Result<Option<FileChange>, CustomError> {
        if !self.is_wanted()? {
            return Ok(None);
        }
        let place: Place = self.step.place.parse()?;
        let found = find_place(site.device, &place.partition).map_err(|error| match error {
            FindError::Disk(error) => error.into(),
            FindError::NotOne(_) => CustomError::NoPlace {
                step: self.number,
                place: place.to_string(),
            },
        })?;
        site.change(&found, |files| {
            let path = &place.path;
            let old = files.read(path, MAX_RESULT as u64)?;
            if self.step.remove {
                if old.is_some() {
                    files.remove(path)?;
                }
                return Ok(old.map(|_| self.told(&place, ChangeKind::Removed, String::new())));
            }
            let new = self.new_content(old.as_deref().unwrap_or_default())?;
            let kind = match &old {
                None => ChangeKind::New,
                Some(old) if *old == new => ChangeKind::Same,
                Some(_) if self.step.content.is_none() => ChangeKind::Edited,
                Some(_) => ChangeKind::Changed,
            };
            if kind != ChangeKind::Same {
                let usual = Rights::root(if self.step.secret { 0o600 } else { 0o644 });
                let mut rights = files.rights(path)?.unwrap_or(usual);
                if let Some(mode) = self.step.mode.as_deref().and_then(octal) {
                    rights.mode = mode;
                }
                files.make_folders(above(path), Rights::root(0o755))?;
                files.put(path, rights, &new)?;
            }
            let diff = if self.step.secret {
                String::new()
            } else {
                pinewrit_volume::text_diff(old.as_deref().unwrap_or_default(), &new)
            };
            Ok(Some(self.told(&place, kind, diff)))
        })
    }

    fn told(&self, place: &Place, kind: ChangeKind, diff: String) -> FileChange {
        FileChange {
            path: place.to_string(),
            kind,
            diff,
            hidden: self.step.secret,
        }
    }

    fn new_content(&self, old: &[u8]) -> Result<Vec<u8>, CustomError> {
        if let Some(content) = &self.step.content {
            return Ok(self.render(content)?.into_bytes());
        }
        let edit = match (&self.step.set, &self.step.line) {
            (Some(set), _) => {
                let text = self.render(set)?;
                let (key, value) = text.split_once('=').unwrap_or((&text, ""));
                Edit::Set {
                    key: key.trim().to_owned(),
                    value: value.to_owned(),
                    section: None,
                }
            }
            (None, line) => Edit::Line {
                text: self.render(line.as_deref().unwrap_or_default())?,
                spot: pinewrit_volume::files::Spot::End,
            },
        };
        edit_text(old, &[edit]).map_err(|fault| CustomError::Template {
            step: self.number,
            what: fault.to_string(),
        })
    }
}
