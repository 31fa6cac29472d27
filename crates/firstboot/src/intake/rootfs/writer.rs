//! Writing into a root file system: each file with its former content recorded, and a state file
//! that tells a later run what is its own.

use std::collections::BTreeMap;

use pinewrit_volume::files::{Files, FilesError, MAX_TEXT, Rights, above};
use serde::{Deserialize, Serialize};

use super::revert::Edits;
use crate::intake::{ChangeKind, FileChange};

/// Where the state file lies.
pub(crate) const STATE: &str = "/var/lib/pinewrit/state.json";

/// What an earlier run put on the medium. It contains no secrets.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct State {
    pub(crate) version: u32,
    /// Files that are entirely its own: path, and the digest of their content.
    pub(crate) files: BTreeMap<String, String>,
    /// Links, and their targets.
    pub(crate) links: BTreeMap<String, String>,
    /// Users, and the keys they were given.
    pub(crate) users: BTreeMap<String, Vec<String>>,
    /// Groups that users were added to.
    pub(crate) groups: BTreeMap<String, Vec<String>>,
    /// Ids of removed users: uid and gid.
    pub(crate) former: BTreeMap<String, (u32, u32)>,
    /// The image's user that was locked, and was not before.
    pub(crate) locked: Option<String>,
    /// Edits of shared texts.
    pub(crate) edits: BTreeMap<String, Edits>,
    /// Changed links, and their former targets.
    pub(crate) led: BTreeMap<String, Led>,
    /// Whether the swap file is ours.
    pub(crate) has_swap: bool,
}

/// A former link, or a text in its place.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct Led {
    pub(crate) was: Option<String>,
    pub(crate) text: Option<String>,
    pub(crate) is: String,
}

impl State {
    pub(crate) const VERSION: u32 = 1;

    pub(crate) fn read(files: &Files<'_>) -> Result<Option<Self>, FilesError> {
        let Some(text) = files.text(STATE)? else {
            return Ok(None);
        };
        let unusable = |why: String| FilesError::Unusable {
            path: STATE.to_owned(),
            why,
        };
        // Without it, what an earlier run wrote could not be told from what others wrote.
        let state: Self =
            serde_json::from_str(&text).map_err(|error| unusable(error.to_string()))?;
        match state.version {
            Self::VERSION => Ok(Some(state)),
            other => Err(unusable(format!("its version is {other}"))),
        }
    }
}

/// Whether a file may be shown.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(crate) enum Secrecy {
    Open,
    /// It contains hashes, keys or passphrases.
    Secret,
}

pub(crate) struct Writer<'f, 'a> {
    pub(crate) files: &'f mut Files<'a>,
    pub(crate) changes: Vec<FileChange>,
    pub(crate) notes: Vec<String>,
    /// The state left by the earlier run.
    pub(crate) old: Option<State>,
    pub(crate) state: State,
    /// Shared texts without the edits of the earlier run; `None` for those that would not exist.
    restored: BTreeMap<String, Option<String>>,
    /// Shared texts before this run's edits.
    bases: BTreeMap<String, Option<String>>,
}

type Done = Result<(), FilesError>;

pub(crate) fn digest(content: &[u8]) -> String {
    blake3::hash(content).to_hex()[..32].to_owned()
}

impl<'f, 'a> Writer<'f, 'a> {
    pub(crate) fn new(files: &'f mut Files<'a>) -> Result<Self, FilesError> {
        let old = State::read(files)?;
        let mut notes = Vec::new();
        let mut restored = BTreeMap::new();
        for (path, edits) in old.iter().flat_map(|old| &old.edits) {
            let Some(text) = files.text(path)? else {
                continue;
            };
            let (text, is_missing) = edits.taken_back(&text);
            if is_missing {
                notes.push(format!(
                    "{path} was changed since: not all of the earlier settings can be removed"
                ));
            }
            restored.insert(path.clone(), text);
        }
        Ok(Self {
            restored,
            bases: BTreeMap::new(),
            old,
            files,
            changes: Vec::new(),
            notes,
            state: State {
                version: State::VERSION,
                ..State::default()
            },
        })
    }

    pub(crate) fn has(&self, path: &str) -> Result<bool, FilesError> {
        self.files.has(path)
    }

    /// Whether any of these exists.
    pub(crate) fn has_any(&self, paths: &[&str]) -> Result<bool, FilesError> {
        for path in paths {
            if self.files.has(path)? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    /// A text; a shared one without the edits of an earlier run.
    pub(crate) fn text(&self, path: &str) -> Result<Option<String>, FilesError> {
        match self.restored.get(path) {
            Some(text) if !self.bases.contains_key(path) => Ok(text.clone()),
            _ => self.files.text(path),
        }
    }

    pub(crate) fn note(&mut self, note: impl Into<String>) {
        self.notes.push(note.into());
    }

    /// A file that is entirely ours: a later run without it removes it.
    pub(crate) fn file(
        &mut self,
        path: &str,
        rights: Rights,
        content: &str,
        secrecy: Secrecy,
    ) -> Done {
        self.state
            .files
            .insert(path.to_owned(), digest(content.as_bytes()));
        let is_own = self
            .old
            .as_ref()
            .is_some_and(|old| old.files.contains_key(path));
        let kind = if is_own {
            ChangeKind::Edited
        } else {
            ChangeKind::Changed
        };
        self.put(path, rights, content, secrecy, kind)
    }

    /// A shared text: it keeps its owner and permissions. A later run without the setting takes the
    /// edits back.
    pub(crate) fn shared(
        &mut self,
        path: &str,
        usual: Rights,
        content: &str,
        secrecy: Secrecy,
    ) -> Done {
        if !self.bases.contains_key(path) {
            let base = self.text(path)?;
            self.bases.insert(path.to_owned(), base);
        }
        self.lasting(path, usual, content, secrecy)
    }

    /// The same, for changes that stay whatever later runs do.
    pub(crate) fn lasting(
        &mut self,
        path: &str,
        usual: Rights,
        content: &str,
        secrecy: Secrecy,
    ) -> Done {
        let rights = self.files.rights(path)?.unwrap_or(usual);
        self.put(path, rights, content, secrecy, ChangeKind::Edited)
    }

    /// `changed` is what it is when something else was there.
    fn put(
        &mut self,
        path: &str,
        rights: Rights,
        content: &str,
        secrecy: Secrecy,
        changed: ChangeKind,
    ) -> Done {
        let known = self.files.rights(path)?;
        // A link is replaced, and its target is left alone.
        let old = match known {
            Some(_) => self.files.small(path, MAX_TEXT)?,
            None => None,
        };
        let has_rights = known == Some(rights);
        let kind = match &old {
            Some(old) if old == content.as_bytes() && has_rights => ChangeKind::Same,
            Some(_) => changed,
            None if self.files.has_name(path)? => changed,
            None => ChangeKind::New,
        };
        if kind != ChangeKind::Same {
            self.files.make_folders(above(path), Rights::root(0o755))?;
            self.files.put(path, rights, content.as_bytes())?;
        }
        let old = old.unwrap_or_default();
        let diff = match secrecy {
            Secrecy::Open => pinewrit_volume::text_diff(&old, content.as_bytes()),
            Secrecy::Secret => String::new(),
        };
        self.told(path, kind, diff);
        if secrecy == Secrecy::Secret
            && let Some(own) = self.changes.iter_mut().find(|change| change.path == path)
        {
            own.hidden = true;
        }
        Ok(())
    }

    /// Records a change; it is merged with an earlier one of the same path.
    fn told(&mut self, path: &str, kind: ChangeKind, diff: String) {
        let known = self.changes.iter_mut().find(|change| change.path == path);
        match known {
            Some(known) => {
                known.kind = match (known.kind, kind) {
                    (ChangeKind::Removed, ChangeKind::New) => ChangeKind::Renewed,
                    (ChangeKind::Same, kind) | (_, kind @ ChangeKind::Removed) => kind,
                    (known, _) => known,
                };
                known.diff += &diff;
            }
            None => self.changes.push(FileChange {
                path: path.to_owned(),
                kind,
                diff,
                hidden: false,
            }),
        }
    }

    /// A link that is ours.
    pub(crate) fn link(&mut self, path: &str, target: &str) -> Done {
        self.state.links.insert(path.to_owned(), target.to_owned());
        self.plain_link(path, target)
    }

    /// A link of the system: a later run without the setting restores its former target.
    pub(crate) fn lead(&mut self, path: &str, target: &str) -> Done {
        let known = self.old.as_ref().and_then(|old| old.led.get(path));
        let led = match known {
            Some(known) => Led {
                is: target.to_owned(),
                ..known.clone()
            },
            None => {
                let was = self.files.facts(path)?;
                let is_file = was.as_ref().is_some_and(|facts| facts.target.is_none());
                Led {
                    was: was.and_then(|facts| facts.target),
                    text: if is_file {
                        self.files.text(path)?
                    } else {
                        None
                    },
                    is: target.to_owned(),
                }
            }
        };
        self.state.led.insert(path.to_owned(), led);
        self.plain_link(path, target)
    }

    fn plain_link(&mut self, path: &str, target: &str) -> Done {
        let facts = self.files.facts(path)?;
        let old = facts.as_ref().and_then(|facts| facts.target.clone());
        let kind = match (&facts, &old) {
            (_, Some(old)) if old == target => ChangeKind::Same,
            (None, _) => ChangeKind::New,
            _ => ChangeKind::Edited,
        };
        if kind != ChangeKind::Same {
            self.files.make_folders(above(path), Rights::root(0o755))?;
            self.files.link(path, target)?;
        }
        let old = old.map_or(String::new(), |old| format!("→ {old}\n"));
        let diff = pinewrit_volume::text_diff(old.as_bytes(), format!("→ {target}\n").as_bytes());
        self.told(path, kind, diff);
        Ok(())
    }

    pub(crate) fn folder(&mut self, path: &str, rights: Rights) -> Done {
        if self.files.has(path)? {
            return Ok(());
        }
        self.files.make_folders(above(path), Rights::root(0o755))?;
        self.files.make_folders(path, rights)
    }

    /// Removes a file or link, if it exists.
    pub(crate) fn remove(&mut self, path: &str) -> Done {
        if self.files.has_name(path)? {
            self.files.remove(path)?;
            self.told(path, ChangeKind::Removed, String::new());
        }
        Ok(())
    }

    /// Records this run's edits, and takes back those of the earlier one that are no longer wanted.
    fn settle_texts(&mut self) -> Done {
        for (path, base) in &self.bases {
            let text = self.files.text(path)?.unwrap_or_default();
            let edits = Edits::between(base.as_deref(), &text);
            if !edits.hunks.is_empty() {
                self.state.edits.insert(path.clone(), edits);
            }
        }
        for (path, text) in std::mem::take(&mut self.restored) {
            if self.bases.contains_key(&path) {
                continue;
            }
            match text {
                Some(text) => {
                    self.lasting(&path, Rights::root(0o644), &text, Secrecy::Open)?;
                    self.changes
                        .retain(|change| change.path != path || change.kind != ChangeKind::Same);
                }
                None => self.remove(&path)?,
            }
        }
        Ok(())
    }

    fn lead_back(&mut self, path: &str, led: &Led) -> Done {
        let now = self.files.facts(path)?.and_then(|facts| facts.target);
        if now.as_deref() != Some(&*led.is) {
            return Ok(());
        }
        match (&led.was, &led.text) {
            (Some(was), _) => self.plain_link(path, was),
            (None, Some(text)) => {
                let rights = Rights::root(0o644);
                self.put(path, rights, text, Secrecy::Open, ChangeKind::Edited)
            }
            (None, None) => self.remove(path),
        }
    }

    /// Removes what an earlier run wrote and this one did not, unless somebody changed it.
    pub(crate) fn clear_old(&mut self) -> Done {
        self.settle_texts()?;
        let Some(old) = self.old.clone() else {
            return Ok(());
        };
        for (path, led) in &old.led {
            if !self.state.led.contains_key(path) {
                self.lead_back(path, led)?;
            }
        }
        for (path, known) in &old.files {
            if self.state.files.contains_key(path) {
                continue;
            }
            match self.files.small(path, MAX_TEXT)? {
                Some(content) if digest(&content) == *known => self.remove(path)?,
                None if !self.files.has_name(path)? => {}
                _ => self.note(format!("{path} was changed by hand, and stays")),
            }
        }
        for (path, target) in &old.links {
            if self.state.links.contains_key(path) {
                continue;
            }
            let facts = self.files.facts(path)?;
            if facts.and_then(|facts| facts.target).as_ref() == Some(target) {
                self.remove(path)?;
            }
        }
        Ok(())
    }

    /// Saves the state for later runs.
    pub(crate) fn keep_state(&mut self) -> Done {
        let json = serde_json::to_string_pretty(&self.state).unwrap_or_default();
        self.folder("/var/lib/pinewrit", Rights::root(0o700))?;
        let rights = Rights::root(0o600);
        self.put(
            STATE,
            rights,
            &(json + "\n"),
            Secrecy::Open,
            ChangeKind::Edited,
        )?;
        if let Some(own) = self.changes.iter_mut().find(|change| change.path == STATE) {
            "what was put here, for a later run\n".clone_into(&mut own.diff);
        }
        Ok(())
    }
}

const BEGIN: &str = "# Written by Pinewrit: begin";
const END: &str = "# Written by Pinewrit: end";

/// Lines between marks, by which a later run finds them in a shared text.
pub(super) fn block(lines: &str) -> String {
    if lines.is_empty() {
        String::new()
    } else {
        format!("{BEGIN}\n{lines}{END}\n")
    }
}

/// A text without what an earlier run put between its marks.
pub(super) fn without_block(text: &str) -> String {
    let mut is_own = false;
    let mut kept = String::new();
    for line in text.split_inclusive('\n') {
        match line.trim_end() {
            BEGIN => is_own = true,
            END => is_own = false,
            _ if !is_own => kept += line,
            _ => {}
        }
    }
    kept
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_own_block_is_found_again() {
        let text = format!("a=1\n{}Port 22\n", block("Port 7\n"));
        assert_eq!(without_block(&text), "a=1\nPort 22\n");
        assert_eq!(block(""), "");
    }
}
