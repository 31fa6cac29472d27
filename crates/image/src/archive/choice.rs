//! Which member of an archive is the image.

use std::fmt;

/// A file in an archive.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Member {
    /// Its full name, as recorded in the archive.
    pub name: String,
    /// Its size in bytes, if the archive says so.
    pub size: Option<u64>,
}

impl Member {
    /// The name without terminal control characters.
    pub fn display_name(&self) -> String {
        self.name
            .chars()
            .map(|c| if c.is_control() { '\u{fffd}' } else { c })
            .collect()
    }
}

/// Why no member was chosen.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum NoChoice {
    /// No member can be an image.
    None {
        /// The names of the members that exist.
        names: Vec<String>,
    },
    /// Several can be, and none was named.
    Several {
        /// Their names.
        names: Vec<String>,
    },
    /// The named one does not exist.
    NotThere {
        /// The requested name.
        wanted: String,
        /// The names of the members that exist.
        names: Vec<String>,
    },
}

impl fmt::Display for NoChoice {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::None { .. } => f.write_str("no member can be an image"),
            Self::Several { names } => write!(f, "{} members could be the image", names.len()),
            Self::NotThere { wanted, .. } => write!(f, "member {wanted} does not exist"),
        }
    }
}

/// Extensions of images, packed or not.
const IMAGES: &[&str] = &["img", "iso", "raw", "wic", "image", "sdimg", "dd", "usb"];
/// Extensions of packed files, and what they may contain.
const PACKED: &[&str] = &[
    "gz", "xz", "zst", "bz2", "lz4", "lzma", "lz", "simg", "zip", "7z", "tar", "tgz", "txz",
    "tbz2", "tlz",
];
/// Extensions of files that accompany an image.
const OTHERS: &[&str] = &[
    "txt", "md", "pdf", "html", "htm", "rtf", "sha256", "sha512", "sha1", "md5", "asc", "sig",
    "json", "xml", "yml", "yaml", "toml", "bmap", "png", "jpg", "svg", "ini", "cfg", "log", "nfo",
];
/// A smaller file is not an image of a medium, unless its extension says so.
const SMALLEST: u64 = 1 << 20;

#[derive(PartialEq, Eq, PartialOrd, Ord)]
enum Likelihood {
    No,
    Maybe,
    Packed,
    Image,
}

fn likelihood(member: &Member) -> Likelihood {
    let file = member.name.rsplit(['/', '\\']).next().unwrap_or_default();
    let lower = file.to_lowercase();
    let mut parts = lower.rsplit('.');
    let ending = parts.next().unwrap_or_default();
    let is_in = |list: &[&str], ending: &str| list.contains(&ending);
    // Resource forks and the like, which some archivers add.
    if lower.starts_with("._") || member.name.starts_with("__MACOSX/") {
        Likelihood::No
    } else if is_in(IMAGES, ending) {
        Likelihood::Image
    } else if is_in(PACKED, ending) {
        match parts.next() {
            Some(inner) if IMAGES.contains(&inner) => Likelihood::Image,
            _ => Likelihood::Packed,
        }
    } else if is_in(OTHERS, ending) || member.size.is_some_and(|size| size < SMALLEST) {
        Likelihood::No
    } else {
        Likelihood::Maybe
    }
}

/// Whether a member can be taken without seeing the rest: its name says that it is an image, or it
/// is the requested one.
pub(super) fn is_taken_in_passing(member: &Member, wanted: Option<&str>) -> bool {
    match wanted {
        Some(wanted) => is_named(member, wanted),
        None => likelihood(member) == Likelihood::Image,
    }
}

/// Whether a file of this name should be packed.
pub(crate) fn is_packed_name(name: &str) -> bool {
    let ending = name
        .rsplit_once('.')
        .map(|(_, ending)| ending.to_lowercase());
    ending.is_some_and(|ending| PACKED.contains(&ending.as_str()))
}

/// Whether a file of this name may lie beside an image without being one: read-me and checksum
/// files.
pub(crate) fn is_beside(name: &str) -> bool {
    let member = Member {
        name: name.to_owned(),
        size: None,
    };
    likelihood(&member) == Likelihood::No
        || name.ends_with("SUMS")
        || name.starts_with('.')
        || matches!(name, "README" | "LICENSE" | "COPYING")
}

/// A member may be named in full or by its file name alone.
fn is_named(member: &Member, wanted: &str) -> bool {
    member.name == wanted || member.name.rsplit(['/', '\\']).next() == Some(wanted)
}

/// Takes the requested member, or else the only one of the likeliest kind.
pub(crate) fn choose(members: &[Member], wanted: Option<&str>) -> Result<Member, NoChoice> {
    let names = |members: &[Member]| members.iter().map(Member::display_name).collect();
    if let Some(wanted) = wanted {
        let found = members.iter().find(|member| is_named(member, wanted));
        return found.cloned().ok_or_else(|| NoChoice::NotThere {
            wanted: wanted.to_owned(),
            names: names(members),
        });
    }
    let best = members.iter().map(likelihood).max();
    let best = best.filter(|best| *best != Likelihood::No);
    let candidates: Vec<Member> = members
        .iter()
        .filter(|member| Some(likelihood(member)) == best)
        .cloned()
        .collect();
    match &candidates[..] {
        [] => Err(NoChoice::None {
            names: names(members),
        }),
        [only] => Ok(only.clone()),
        several => Err(NoChoice::Several {
            names: names(several),
        }),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn members(names: &[&str]) -> Vec<Member> {
        let member = |name: &&str| Member {
            name: (*name).to_owned(),
            size: Some(64 << 20),
        };
        names.iter().map(member).collect()
    }

    #[rstest]
    #[case::alone(&["hut.img"], "hut.img")]
    #[case::among_others(&["read-me.txt", "out/hut.img", "out/hut.img.sha256"], "out/hut.img")]
    #[case::packed(&["hut.img.xz", "notes.md"], "hut.img.xz")]
    #[case::without_ending(&["larkfell-os", "read-me.txt"], "larkfell-os")]
    #[case::image_before_packed(&["hut.iso", "sources.tar"], "hut.iso")]
    #[case::fork(&["hut.img", "__MACOSX/hut.img"], "hut.img")]
    fn one_is_the_image(#[case] names: &[&str], #[case] chosen: &str) {
        assert_eq!(choose(&members(names), None).unwrap().name, chosen);
    }

    #[rstest]
    #[case::several(&["b2.img", "b4.img", "x.txt"], None, "2 members could be the image")]
    #[case::none(&["x.txt", "y.md"], None, "no member can be an image")]
    #[case::not_there(&["b2.img"], Some("b4.img"), "member b4.img does not exist")]
    fn none_is(#[case] names: &[&str], #[case] wanted: Option<&str>, #[case] why: &str) {
        let error = choose(&members(names), wanted).unwrap_err();
        assert_eq!(error.to_string(), why);
    }

    #[test]
    fn a_member_is_named_in_full_or_in_short() {
        for wanted in ["b/b4.img", "b4.img"] {
            let chosen = choose(&members(&["a/b2.img", "b/b4.img"]), Some(wanted)).unwrap();
            assert_eq!(chosen.name, "b/b4.img");
        }
    }
}
