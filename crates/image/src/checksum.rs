//! Published checksums: kinds, digests, and the usual forms of checksum files.

use std::fmt;
use std::fs::File;
use std::io::{ErrorKind, Read};
use std::path::{Path, PathBuf};

use md5::{Digest, Md5};
use ring::digest::{Context, SHA1_FOR_LEGACY_USE_ONLY, SHA256, SHA512};

use crate::{ImageSource, Location};

/// A checksum file larger than this is something else.
const MAX_FILE: u64 = 1 << 20;

/// A kind of checksum, the strongest first.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ChecksumKind {
    /// SHA-512.
    Sha512,
    /// SHA-256.
    Sha256,
    /// SHA-1: protects against accidents only.
    Sha1,
    /// MD5: protects against accidents only.
    Md5,
}

impl ChecksumKind {
    const ALL: [Self; 4] = [Self::Sha512, Self::Sha256, Self::Sha1, Self::Md5];

    /// The usual name in small letters: `sha256`.
    pub fn word(self) -> &'static str {
        match self {
            Self::Sha512 => "sha512",
            Self::Sha256 => "sha256",
            Self::Sha1 => "sha1",
            Self::Md5 => "md5",
        }
    }

    /// Whether somebody could deliberately make another file with the same digest.
    pub fn is_weak(self) -> bool {
        matches!(self, Self::Sha1 | Self::Md5)
    }

    /// A hasher of this kind.
    pub fn hasher(self) -> Hasher {
        let engine = match self {
            Self::Sha512 => Engine::Sha(Context::new(&SHA512)),
            Self::Sha256 => Engine::Sha(Context::new(&SHA256)),
            Self::Sha1 => Engine::Sha(Context::new(&SHA1_FOR_LEGACY_USE_ONLY)),
            Self::Md5 => Engine::Md5(Md5::new()),
        };
        Hasher { kind: self, engine }
    }

    fn bytes(self) -> usize {
        match self {
            Self::Sha512 => 64,
            Self::Sha256 => 32,
            Self::Sha1 => 20,
            Self::Md5 => 16,
        }
    }
}

/// Computes a checksum of a stream.
pub struct Hasher {
    kind: ChecksumKind,
    engine: Engine,
}

/// `ring` is the faster of the well-kept crates on processors without instructions for SHA-2; see
/// docs/benchmarks.md.
enum Engine {
    Sha(Context),
    Md5(Md5),
}

impl Hasher {
    /// Takes in bytes.
    pub fn update(&mut self, bytes: &[u8]) {
        match &mut self.engine {
            Engine::Sha(context) => context.update(bytes),
            Engine::Md5(context) => context.update(bytes),
        }
    }

    /// The checksum of all bytes.
    pub fn finish(self) -> Checksum {
        Checksum {
            kind: self.kind,
            digest: match self.engine {
                Engine::Sha(context) => context.finish().as_ref().to_vec(),
                Engine::Md5(context) => context.finalize().to_vec(),
            },
        }
    }
}

/// A digest and its kind.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Checksum {
    /// The kind.
    pub kind: ChecksumKind,
    /// The digest.
    pub digest: Vec<u8>,
}

impl Checksum {
    /// Reads the form in which it is displayed: `sha256:HEX`.
    pub fn parse(text: &str) -> Option<Self> {
        let (word, hex) = text.split_once(':')?;
        Self::from_hex(hex).filter(|sum| sum.kind.word() == word)
    }

    /// Parses hexadecimal digits; their number tells the kind.
    fn from_hex(hex: &str) -> Option<Self> {
        let digest = hex::decode(hex).ok()?;
        let kind = ChecksumKind::ALL
            .into_iter()
            .find(|kind| kind.bytes() == digest.len())?;
        Some(Self { kind, digest })
    }
}

impl fmt::Display for Checksum {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{}:{}", self.kind.word(), hex::encode(&self.digest))
    }
}

/// Where an expected checksum comes from.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum ChecksumOrigin {
    /// Given as an argument.
    Argument,
    /// Read from this file, here or on the server.
    File(PathBuf),
    /// Read from this member of the archive that the image is in.
    Member(String),
    /// The catalogue says so of this image.
    Shelf(String),
}

/// What a checksum covers.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Subject {
    /// The packed file as downloaded.
    Packed,
    /// The member of the outermost archive, which is itself packed.
    Member,
    /// The image that comes out of it.
    Unpacked,
}

impl Subject {
    /// The subject in words.
    pub fn word(self) -> &'static str {
        match self {
            Self::Packed => "packed file",
            Self::Member => "packed member",
            Self::Unpacked => "unpacked image",
        }
    }
}

/// The expected checksum of a source.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct ExpectedChecksum {
    /// The published digest.
    pub checksum: Checksum,
    /// What it covers; if `None`, that is unknown, and either may match.
    pub subject: Option<Subject>,
    /// Where it comes from.
    pub origin: ChecksumOrigin,
}

/// Why a requested checksum cannot be used.
#[derive(Debug, thiserror::Error)]
#[non_exhaustive]
pub enum ChecksumError {
    /// Neither a checksum nor a file.
    #[error("`{text}` is neither a checksum nor a file")]
    Argument {
        /// The argument as given.
        text: String,
    },
    /// The checksum file could not be read.
    #[error("the checksum file {} could not be read", path.display())]
    Io {
        /// The checksum file.
        path: PathBuf,
        /// The system's answer.
        source: std::io::Error,
    },
    /// The checksum file has no line for this image.
    #[error("the checksum file {} has no checksum for {name}", path.display())]
    NotListed {
        /// The checksum file.
        path: PathBuf,
        /// The image's name.
        name: String,
    },
}

impl ExpectedChecksum {
    /// What a catalogue says of the file of this image.
    pub fn of_shelf(name: String, checksum: Checksum) -> Self {
        Self {
            checksum,
            subject: Some(Subject::Packed),
            origin: ChecksumOrigin::Shelf(name),
        }
    }

    /// What a list says of the source or of what is in it; `None` if it lists neither.
    pub fn in_list(text: &str, source: &ImageSource, name: &str) -> Option<Self> {
        let origin = ChecksumOrigin::File(PathBuf::from(name));
        expected(text, &Names::of(source), origin)
    }

    /// Takes `sha256:HEX` (or another kind), or the path of a checksum file that lists the source
    /// or what is in it.
    ///
    /// # Errors
    /// [`ChecksumError`].
    pub fn from_argument(text: &str, source: &ImageSource) -> Result<Self, ChecksumError> {
        if let Some(checksum) = Checksum::parse(text) {
            return Ok(Self {
                checksum,
                subject: None,
                origin: ChecksumOrigin::Argument,
            });
        }
        let path = Path::new(text);
        if !path.exists() {
            return Err(ChecksumError::Argument {
                text: text.to_owned(),
            });
        }
        from_file(path, &Names::of(source))?.ok_or_else(|| ChecksumError::NotListed {
            path: path.to_owned(),
            name: source.name(),
        })
    }
}

/// Searches for a checksum beside a source: `IMAGE.sha256` and its kin, also for the unpacked
/// image's name, then `SHA256SUMS` and its kin; the strongest kind first. For files, in their
/// folder, then in the archive; for servers, in the folder there, and only strong kinds. A list
/// that does not name the image counts as not found.
///
/// # Errors
/// A checksum file exists but cannot be read.
pub fn find_beside(source: &ImageSource) -> Result<Option<ExpectedChecksum>, ChecksumError> {
    let names = Names::of(source);
    let beside = match source.location() {
        Location::Path(path) => find_in_folder(path, &names)?,
        Location::Url(url) => find_on_server(source, url, &names),
        Location::Shelf(_) => None,
    };
    Ok(beside.or_else(|| find_in_archive(source, &names)))
}

fn find_in_folder(path: &Path, names: &Names) -> Result<Option<ExpectedChecksum>, ChecksumError> {
    let folder = if path.is_dir() {
        path
    } else {
        path.parent().unwrap_or(Path::new(""))
    };
    let all = std::iter::once(&names.packed).chain(&names.unpacked);
    for file in file_names(all, &ChecksumKind::ALL) {
        let path = folder.join(file);
        if path.is_file()
            && let Some(found) = from_file(&path, names)?
        {
            return Ok(Some(found));
        }
    }
    Ok(None)
}

fn find_on_server(source: &ImageSource, url: &str, names: &Names) -> Option<ExpectedChecksum> {
    let kinds = [ChecksumKind::Sha256, ChecksumKind::Sha512];
    // Each name is a request; the second form is rare.
    let files = file_names(std::iter::once(&names.packed), &kinds);
    let files = files.filter(|file| !file.ends_with("sum"));
    let mut found = files.filter_map(|file| {
        let text = source.fetch_beside(&file)?;
        let folder = url.rsplit_once('/').map_or("", |(folder, _)| folder);
        let origin = ChecksumOrigin::File(PathBuf::from(format!("{folder}/{file}")));
        expected(&text, names, origin)
    });
    found.next()
}

/// In the outermost archive.
fn find_in_archive(source: &ImageSource, names: &Names) -> Option<ExpectedChecksum> {
    let archive = source.layers().first()?;
    let all = names.member.iter().chain(&names.unpacked);
    file_names(all, &ChecksumKind::ALL).find_map(|wanted| {
        let mut others = archive.others.iter();
        let listed = others.find(|other| base_name(&other.name) == wanted)?;
        let text = source.read_beside(&listed.name)?;
        let origin = ChecksumOrigin::Member(listed.display_name());
        let mut found = expected(&text, names, origin)?;
        // A bare digest belongs to the file that its own file is named after.
        let of_member = |name: &String| wanted.strip_prefix(name.as_str()).is_some();
        if found.subject.is_none() && names.member.as_ref().is_some_and(of_member) {
            found.subject = Some(Subject::Member);
        }
        Some(found)
    })
}

/// The usual names of checksum files for files of these names.
fn file_names<'a>(
    names: impl Iterator<Item = &'a String> + Clone,
    kinds: &[ChecksumKind],
) -> impl Iterator<Item = String> {
    kinds.iter().flat_map(move |kind| {
        let word = kind.word();
        let own = move |name: &String| [format!("{name}.{word}"), format!("{name}.{word}sum")];
        let list = format!("{}SUMS", word.to_uppercase());
        names.clone().flat_map(own).chain([list])
    })
}

/// The names under which a checksum may be listed.
struct Names {
    packed: String,
    /// The name of the outermost archive's member, if that is itself packed.
    member: Option<String>,
    unpacked: Vec<String>,
}

impl Names {
    /// The source's own name; names of chosen members; and the name without each layer's ending.
    fn of(source: &ImageSource) -> Self {
        let packed = source.name();
        let mut unpacked = Vec::new();
        let mut name = packed.clone();
        for layer in source.layers() {
            name = match &layer.member {
                Some(member) => base_name(&member.name).to_owned(),
                None => match name.rsplit_once('.') {
                    Some((stem, _)) => stem.to_owned(),
                    None => break,
                },
            };
            unpacked.push(name.clone());
        }
        // Only the innermost is the image itself.
        let unpacked = unpacked.pop().into_iter().collect();
        let mut archives = source.layers().iter().filter_map(|l| l.member.as_ref());
        let member = archives
            .next()
            .map(|member| base_name(&member.name).to_owned());
        let is_packed =
            source.layers().last().is_some_and(|l| l.member.is_none()) || archives.next().is_some();
        let member = member.filter(|_| is_packed);
        Self {
            packed,
            member,
            unpacked,
        }
    }

    fn subject(&self, listed: &str) -> Option<Subject> {
        let listed = base_name(listed);
        if listed == self.packed {
            Some(Subject::Packed)
        } else if self.member.as_deref() == Some(listed) {
            Some(Subject::Member)
        } else if self.unpacked.iter().any(|name| name == listed) {
            Some(Subject::Unpacked)
        } else {
            None
        }
    }
}

fn base_name(path: &str) -> &str {
    path.rsplit(['/', '\\']).next().unwrap_or(path)
}

/// Searches a checksum file for one of the names; `None` if it lists none of them.
fn from_file(path: &Path, names: &Names) -> Result<Option<ExpectedChecksum>, ChecksumError> {
    let mut text = String::new();
    let read = File::open(path).and_then(|file| file.take(MAX_FILE).read_to_string(&mut text));
    match read {
        // Binary content is not a list.
        Err(error) if error.kind() == ErrorKind::InvalidData => return Ok(None),
        Err(source) => {
            return Err(ChecksumError::Io {
                path: path.to_owned(),
                source,
            });
        }
        Ok(_) => {}
    }
    Ok(expected(
        &text,
        names,
        ChecksumOrigin::File(path.to_owned()),
    ))
}

fn expected(text: &str, names: &Names, origin: ChecksumOrigin) -> Option<ExpectedChecksum> {
    let (checksum, subject) = find_in_list(text, names)?;
    Some(ExpectedChecksum {
        checksum,
        subject,
        origin,
    })
}

/// A checksum from a list: GNU lines (`HEX  NAME`, `HEX *NAME`), BSD lines (`SHA256 (NAME) = HEX`),
/// or one bare digest and nothing else.
fn find_in_list(text: &str, names: &Names) -> Option<(Checksum, Option<Subject>)> {
    let lines = || text.lines().map(str::trim).filter(|line| !line.is_empty());
    let mut all = lines();
    if let (Some(only), None) = (all.next(), all.next())
        && let Some(checksum) = Checksum::from_hex(only)
    {
        return Some((checksum, None));
    }
    let found = lines().filter_map(|line| {
        let (listed, hex) = bsd_line(line).or_else(|| gnu_line(line))?;
        Some((Checksum::from_hex(hex)?, Some(names.subject(listed)?)))
    });
    // The packed file is what was downloaded; its own checksum takes precedence.
    let found: Vec<_> = found.collect();
    let packed = found.iter().find(|(_, s)| *s == Some(Subject::Packed));
    packed.or(found.first()).cloned()
}

fn bsd_line(line: &str) -> Option<(&str, &str)> {
    let (kind, rest) = line.split_once(" (")?;
    let known = ChecksumKind::ALL
        .iter()
        .any(|known| known.word().eq_ignore_ascii_case(kind));
    known.then(|| rest.rsplit_once(") = ")).flatten()
}

fn gnu_line(line: &str) -> Option<(&str, &str)> {
    let (hex, listed) = line.split_once(char::is_whitespace)?;
    let listed = listed.trim_start();
    Some((listed.strip_prefix('*').unwrap_or(listed), hex))
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const A: &str = "aaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaaa";
    const B: &str = "bbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbbb";

    fn names() -> Names {
        Names {
            packed: "hut.img.xz".into(),
            member: None,
            unpacked: vec!["hut.img".into()],
        }
    }

    #[rstest]
    #[case::gnu(&format!("{B}  other.img\n{A}  hut.img.xz\n"), Some(Subject::Packed))]
    #[case::gnu_binary(&format!("{A} *./hut.img.xz\n"), Some(Subject::Packed))]
    #[case::bsd(&format!("SHA256 (hut.img.xz) = {A}\n"), Some(Subject::Packed))]
    #[case::unpacked(&format!("{A}  out/hut.img\n"), Some(Subject::Unpacked))]
    #[case::both(&format!("{B}  hut.img\n{A}  hut.img.xz\n"), Some(Subject::Packed))]
    #[case::bare(&format!("{A}\n"), None)]
    fn listed(#[case] text: &str, #[case] subject: Option<Subject>) {
        let (checksum, of) = find_in_list(text, &names()).unwrap();
        assert_eq!(checksum.to_string(), format!("sha256:{A}"));
        assert_eq!(of, subject);
    }

    #[rstest]
    #[case::other_only(&format!("{A}  other.img\n"))]
    #[case::too_short("abcd  hut.img.xz\n")]
    #[case::two_bare(&format!("{A}\n{B}\n"))]
    #[case::no_hex(&format!("{}  hut.img.xz\n", "z".repeat(64)))]
    fn not_listed(#[case] text: &str) {
        assert_eq!(find_in_list(text, &names()), None);
    }

    #[rstest]
    #[case("d41d8cd98f00b204e9800998ecf8427e", ChecksumKind::Md5)]
    #[case("da39a3ee5e6b4b0d3255bfef95601890afd80709", ChecksumKind::Sha1)]
    #[case(
        "e3b0c44298fc1c149afbf4c8996fb92427ae41e4649b934ca495991b7852b855",
        ChecksumKind::Sha256
    )]
    fn the_digests_of_nothing(#[case] hex: &str, #[case] kind: ChecksumKind) {
        let computed = kind.hasher().finish();
        assert_eq!(Checksum::from_hex(hex), Some(computed));
    }
}
