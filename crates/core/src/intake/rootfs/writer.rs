//! Writing down what goes into a root file system: each file with what it was before, and a state
//! file by which a later run knows what is its own.

use std::collections::BTreeMap;

use serde::{Deserialize, Serialize};

use crate::files::{Files, FilesError, MAX_TEXT, Rights, above};
use crate::intake::{ChangeKind, FileChange};

/// Where the state file lies.
const STATE: &str = "/var/lib/pinewrit/state.json";

/// What an earlier run has put on the medium. It holds no secrets.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(default)]
pub(crate) struct State {
    pub(crate) version: u32,
    /// Files that are all its own: path, and the digest of what was put there.
    pub(crate) files: BTreeMap<String, String>,
    /// Links, and where they lead.
    pub(crate) links: BTreeMap<String, String>,
    /// Users, and the keys that they were given.
    pub(crate) users: BTreeMap<String, Vec<String>>,
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
        // Without it, what an earlier run has put could not be told from what others have.
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
    /// It holds hashes, keys or passphrases.
    Secret,
}

pub(crate) struct Writer<'f, 'a> {
    pub(crate) files: &'f mut Files<'a>,
    pub(crate) changes: Vec<FileChange>,
    pub(crate) notes: Vec<String>,
    /// What the earlier run left.
    pub(crate) old: Option<State>,
    pub(crate) state: State,
}

type Done = Result<(), FilesError>;

fn digest(content: &[u8]) -> String {
    blake3::hash(content).to_hex()[..32].to_owned()
}

impl<'f, 'a> Writer<'f, 'a> {
    pub(crate) fn new(files: &'f mut Files<'a>) -> Result<Self, FilesError> {
        Ok(Self {
            old: State::read(files)?,
            files,
            changes: Vec::new(),
            notes: Vec::new(),
            state: State {
                version: State::VERSION,
                ..State::default()
            },
        })
    }

    pub(crate) fn has(&self, path: &str) -> Result<bool, FilesError> {
        self.files.has(path)
    }

    /// Whether any of these is there.
    pub(crate) fn has_any(&self, paths: &[&str]) -> Result<bool, FilesError> {
        for path in paths {
            if self.files.has(path)? {
                return Ok(true);
            }
        }
        Ok(false)
    }

    pub(crate) fn text(&self, path: &str) -> Result<Option<String>, FilesError> {
        self.files.text(path)
    }

    pub(crate) fn note(&mut self, note: impl Into<String>) {
        self.notes.push(note.into());
    }

    /// A file that is all ours: a later run without it takes it away.
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
        let kind = match is_own {
            true => ChangeKind::Edited,
            false => ChangeKind::Changed,
        };
        self.put(path, rights, content, secrecy, kind)
    }

    /// A text that others use too: it keeps its owner and permissions.
    pub(crate) fn shared(
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
        // A link is replaced, and what it leads to is left alone.
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
            Secrecy::Open => crate::text_diff(&old, content.as_bytes()),
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

    /// Notes a change; one of the same path is brought together with it.
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

    /// A link that stays, whatever later runs do.
    pub(crate) fn plain_link(&mut self, path: &str, target: &str) -> Done {
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
        let diff = crate::text_diff(old.as_bytes(), format!("→ {target}\n").as_bytes());
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

    /// Takes a file or link away, if it is there.
    pub(crate) fn remove(&mut self, path: &str) -> Done {
        if self.files.has_name(path)? {
            self.files.remove(path)?;
            self.told(path, ChangeKind::Removed, String::new());
        }
        Ok(())
    }

    /// Takes away what an earlier run has put and this one has not, unless somebody changed it.
    pub(crate) fn clear_old(&mut self) -> Done {
        let Some(old) = self.old.clone() else {
            return Ok(());
        };
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

    /// Leaves the state for later runs.
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

/// Lines between marks, by which a later run finds them in a text of others.
pub(super) fn block(lines: &str) -> String {
    match lines.is_empty() {
        true => String::new(),
        false => format!("{BEGIN}\n{lines}{END}\n"),
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
