//! Which members of an archive are taken, and their targets.

use globset::{Glob, GlobBuilder, GlobMatcher};

use super::Refusal;
use super::take::clean;
use crate::nearest;

/// Names that a message suggests.
const MAX_NEAR: usize = 3;
/// Members of an archive remembered for suggestions.
const MAX_MEMBERS: usize = 200_000;

/// The rest of a path below a folder; empty for the folder itself.
pub(super) fn below<'p>(path: &'p str, folder: &str) -> Option<&'p str> {
    if folder.is_empty() {
        return Some(path);
    }
    let rest = path.strip_prefix(folder)?;
    if rest.is_empty() {
        Some(rest)
    } else {
        rest.strip_prefix('/')
    }
}

/// Members picked by their names; all, if no names are given.
pub(super) struct Picks {
    all: Vec<Pick>,
    /// Names that were seen, for suggestions.
    names: Vec<String>,
}

struct Pick {
    text: String,
    /// For names with wildcards: `boot/*.dtb`.
    matcher: Option<GlobMatcher>,
    is_found: bool,
}

impl Pick {
    /// A member and everything below it lose their parent folders. What is named in full also loses
    /// its own name.
    fn rest(&self, name: &str) -> Option<String> {
        let Some(matcher) = &self.matcher else {
            return below(name, &self.text).map(str::to_owned);
        };
        let ends = name.match_indices('/').map(|(at, _)| at);
        let mut heads = ends.chain([name.len()]).map(|end| &name[..end]);
        let head = heads.find(|head| matcher.is_match(head))?;
        let own = head.rfind('/').map_or(0, |at| at + 1);
        Some(name[own..].to_owned())
    }
}

/// A pattern in which `*` and `?` do not match a slash, and `**` does.
fn matcher(text: &str) -> Option<GlobMatcher> {
    let has_signs = text.contains(['*', '?', '[']);
    let glob: Option<Glob> = has_signs
        .then(|| GlobBuilder::new(text).literal_separator(true).build().ok())
        .flatten();
    glob.map(|glob| glob.compile_matcher())
}

impl Picks {
    pub(super) fn of(wanted: &[String]) -> Self {
        let pick = |text: &String| {
            let text = clean(text);
            Pick {
                matcher: matcher(&text),
                text,
                is_found: false,
            }
        };
        Self {
            all: wanted.iter().map(pick).collect(),
            names: Vec::new(),
        }
    }

    /// The path of a member below the target; `None` if it is not picked.
    pub(super) fn rest(&mut self, name: &str) -> Option<String> {
        if self.all.is_empty() {
            return Some(name.to_owned());
        }
        let mut found = None;
        for pick in &mut self.all {
            if let Some(rest) = pick.rest(name) {
                pick.is_found = true;
                found.get_or_insert(rest);
            }
        }
        if found.is_none() && self.names.len() < MAX_MEMBERS {
            self.names.push(name.to_owned());
        }
        found
    }

    /// The same for a member that is only referred to.
    pub(super) fn rest_of(&self, name: &str) -> Option<String> {
        if self.all.is_empty() {
            Some(name.to_owned())
        } else {
            self.all.iter().find_map(|pick| pick.rest(name))
        }
    }

    /// Names that matched no member.
    pub(super) fn missing(&self, archive: &str) -> Vec<Refusal> {
        let missing = self.all.iter().filter(|pick| !pick.is_found);
        let told = missing.map(|pick| {
            let near = self.near(&pick.text);
            let remedy = if near.is_empty() {
                "see what is in it".to_owned()
            } else {
                format!("like it: {}", near.join(", "))
            };
            Refusal::new(format!("{archive} has no member {}", pick.text), remedy)
        });
        told.collect()
    }

    fn near(&self, wanted: &str) -> Vec<&str> {
        let mut near: Vec<&str> = Vec::new();
        let last = wanted.rsplit('/').next().unwrap_or(wanted);
        while near.len() < MAX_NEAR {
            let left = || {
                let names = self.names.iter().map(String::as_str);
                names
                    .filter(|name| !near.contains(name))
                    .collect::<Vec<_>>()
            };
            let left = left();
            let same_end = left
                .iter()
                .find(|name| name.rsplit('/').next() == Some(last))
                .copied();
            match same_end.or_else(|| nearest(wanted, left.iter().copied())) {
                Some(name) => near.push(name),
                None => break,
            }
        }
        near
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::all(&[], "a/b", Some("a/b"))]
    #[case::file(&["a/b"], "a/b", Some(""))]
    #[case::folder(&["a"], "a/b/c", Some("b/c"))]
    #[case::other(&["a"], "ab/c", None)]
    #[case::pattern(&["boot/*.dtb"], "boot/x.dtb", Some("x.dtb"))]
    #[case::no_slash(&["boot/*.dtb"], "boot/a/x.dtb", None)]
    #[case::deep(&["**/*.dtb"], "boot/a/x.dtb", Some("x.dtb"))]
    #[case::folders(&["lib*"], "lib64/a/b", Some("lib64/a/b"))]
    #[case::several(&["x", "boot/loader.bin"], "boot/loader.bin", Some(""))]
    fn members(#[case] wanted: &[&str], #[case] name: &str, #[case] rest: Option<&str>) {
        let wanted: Vec<String> = wanted.iter().map(|text| (*text).to_owned()).collect();
        assert_eq!(Picks::of(&wanted).rest(name).as_deref(), rest);
    }

    #[test]
    fn what_is_not_there_is_told_with_what_is_like_it() {
        let mut picks = Picks::of(&["boot/loder.bin".to_owned()]);
        picks.rest("boot/loader.bin");
        let missing = picks.missing("x.tar");
        assert!(missing[0].remedy.contains("boot/loader.bin"), "{missing:?}");
    }
}
