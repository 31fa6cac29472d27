//! Which files are the pieces of one image: recognised by their names, checked by their sizes.

use std::collections::BTreeMap;
use std::fmt;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};

/// More pieces than anyone cuts an image into.
const MAX_PIECES: u64 = 10_000;
/// How far the numbers of pieces may exceed twice the number of files. Beyond that, numbers at the
/// ends of names are dates or versions.
const SLACK: u64 = 1;

/// What is wrong with the pieces of an image.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum PiecesFault {
    /// Some are missing.
    Missing {
        /// Names of the first few that are missing.
        names: Vec<String>,
        /// How many are there.
        present: usize,
    },
    /// One is shorter than the others, and is not the last.
    Short {
        /// Its name.
        name: String,
        /// Its size in bytes.
        found: u64,
        /// The size of the others in bytes.
        others: u64,
    },
    /// The pieces of a zip do not end with a zip's directory.
    NoZip {
        /// The name of the whole.
        name: String,
    },
}

impl fmt::Display for PiecesFault {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        match self {
            Self::Missing { names, .. } => write!(f, "pieces are missing: {}", names.join(", ")),
            Self::Short {
                name,
                found,
                others,
            } => write!(f, "piece {name} has {found} bytes, the others {others}"),
            Self::NoZip { name } => write!(f, "the pieces of {name} do not form a zip"),
        }
    }
}

/// How pieces are numbered.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Numbers {
    /// `.001`, `.002`: three digits and more.
    Ending,
    /// `.00` to `.89`, then `.9000` to `.9899`: cutters that do not know how many there will be.
    Digits,
    /// `.part1`, with anything after it.
    Part,
    /// `aa` to `yz`, then `zaaa` to `zyzz`.
    Letters,
    /// `aaa`, `aab`.
    ThreeLetters,
    /// `.z01`, `.z02`, and `.zip` as the last.
    ZipDisks,
}

/// What the names of pieces that belong together share.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
struct Series {
    before: String,
    after: String,
    numbers: Numbers,
}

/// Two-character names before cutters go on to four characters: `yz` and `89` are the last.
const SHORT_LETTERS: u64 = 25 * 26;
const SHORT_DIGITS: u64 = 90;

/// The number of the last disk of a zip, whichever that is.
const LAST_DISK: u64 = u64::MAX;

impl Series {
    /// Every reading of `name` as that of a piece, with its number.
    fn of(name: &str) -> Vec<(Self, u64)> {
        [
            ending(name),
            digits(name),
            part(name),
            zip_disk(name),
            three_letters(name),
            letters(name),
        ]
        .into_iter()
        .flatten()
        .collect()
    }

    /// The name of piece `number`, written like `like`.
    fn name(&self, number: u64, like: &str) -> String {
        let Self { before, after, .. } = self;
        match self.numbers {
            Numbers::Letters if number < SHORT_LETTERS => {
                format!("{before}{}", to_letters(number, 2))
            }
            Numbers::Letters => format!("{before}z{}", to_letters(number - SHORT_LETTERS, 3)),
            Numbers::ThreeLetters => format!("{before}{}", to_letters(number, 3)),
            Numbers::Digits if number < SHORT_DIGITS => format!("{before}{number:02}"),
            Numbers::Digits => format!("{before}9{:03}", number - SHORT_DIGITS),
            Numbers::ZipDisks if number == LAST_DISK => format!("{before}.zip"),
            Numbers::ZipDisks => format!("{before}.z{number:02}"),
            Numbers::Ending | Numbers::Part => {
                let digits = like.len() - before.len() - after.len();
                let padded = like[before.len()..].starts_with('0') || digits > 2;
                let width = if padded { digits } else { 1 };
                format!("{before}{number:0width$}{after}")
            }
        }
    }

    /// The name of the whole.
    fn whole(&self) -> String {
        let before = match self.numbers {
            Numbers::ZipDisks => return format!("{}.zip", self.before),
            Numbers::Part => &self.before[..self.before.len() - "part".len()],
            _ => &self.before,
        };
        let trimmed = before.trim_end_matches(['.', '-', '_']);
        format!("{trimmed}{}", self.after)
    }
}

fn series(before: &str, numbers: Numbers) -> Series {
    Series {
        before: before.to_owned(),
        after: String::new(),
        numbers,
    }
}

/// `NAME.001`.
fn ending(name: &str) -> Option<(Series, u64)> {
    let (stem, digits) = name.rsplit_once('.')?;
    let plausible = (3..=6).contains(&digits.len()) && !stem.is_empty();
    let number = number(digits).filter(|_| plausible)?;
    Some((series(&name[..=stem.len()], Numbers::Ending), number))
}

/// `NAME.00`, `NAME.9000`.
fn digits(name: &str) -> Option<(Series, u64)> {
    let (stem, digits) = name.rsplit_once('.')?;
    let number = match (digits.len(), digits.strip_prefix('9')) {
        (2, _) => number(digits)?,
        (4, Some(rest)) => SHORT_DIGITS + number(rest)?,
        _ => return None,
    };
    Some((series(&name[..=stem.len()], Numbers::Digits), number))
}

/// `NAME.part1`, `NAME-part01.img.xz`, `NAME_PART1`.
fn part(name: &str) -> Option<(Series, u64)> {
    let lower = name.to_ascii_lowercase();
    let at = lower.rfind("part")?;
    if !name[..at].ends_with(['.', '-', '_']) {
        return None;
    }
    let rest = &name[at + "part".len()..];
    let digits = rest.bytes().take_while(u8::is_ascii_digit).count();
    let after = &rest[digits..];
    let number = number(&rest[..digits])?;
    let series = Series {
        before: name[..at + "part".len()].to_owned(),
        after: after.to_owned(),
        numbers: Numbers::Part,
    };
    (after.is_empty() || after.starts_with('.')).then_some((series, number))
}

/// `NAME.z01`, `NAME.zip`.
fn zip_disk(name: &str) -> Option<(Series, u64)> {
    let (stem, ending) = name.rsplit_once('.')?;
    let number = match ending.to_ascii_lowercase().as_str() {
        "zip" => LAST_DISK,
        ending => number(ending.strip_prefix('z')?).filter(|&number| number > 0)?,
    };
    Some((series(stem, Numbers::ZipDisks), number))
}

/// `NAMEaa`, `NAMEzaaa`.
fn letters(name: &str) -> Option<(Series, u64)> {
    if let Some((before, ending)) = split_end(name, 4)
        && let Some(number) = ending.strip_prefix('z').and_then(from_letters)
    {
        return Some((series(before, Numbers::Letters), SHORT_LETTERS + number));
    }
    let (before, ending) = split_end(name, 2)?;
    Some((series(before, Numbers::Letters), from_letters(ending)?))
}

/// `NAME-aaa`; without a mark before them, three letters are a word.
fn three_letters(name: &str) -> Option<(Series, u64)> {
    let (before, ending) = split_end(name, 3)?;
    let is_marked = before.ends_with(|c: char| !c.is_alphanumeric());
    let number = from_letters(ending).filter(|_| is_marked)?;
    Some((series(before, Numbers::ThreeLetters), number))
}

fn split_end(name: &str, len: usize) -> Option<(&str, &str)> {
    let at = name.len().checked_sub(len).filter(|at| *at > 0)?;
    name.split_at_checked(at)
}

fn from_letters(letters: &str) -> Option<u64> {
    let plain = letters.bytes().all(|letter| letter.is_ascii_lowercase());
    let sum = |sum: u64, letter: u8| sum * 26 + u64::from(letter - b'a');
    plain.then(|| letters.bytes().fold(0, sum))
}

fn number(digits: &str) -> Option<u64> {
    let plain = !digits.is_empty() && digits.bytes().all(|digit| digit.is_ascii_digit());
    let number = digits.parse().ok()?;
    (plain && number < MAX_PIECES).then_some(number)
}

fn to_letters(number: u64, width: usize) -> String {
    let letter = |place| (b'a' + (number / 26u64.pow(place) % 26) as u8) as char;
    (0..width as u32).rev().map(letter).collect()
}

/// The pieces of one image, in their order.
#[derive(Debug)]
pub(crate) struct Found {
    /// Their paths.
    pub(crate) paths: Vec<PathBuf>,
    /// The name of the whole, without the numbers.
    pub(crate) name: String,
    /// Whether they are a zip that its packer cut.
    pub(crate) is_zip: bool,
}

/// The pieces to which the file at `path` belongs; `None` if it is not a piece.
///
/// # Errors
/// They are not a complete image.
pub(crate) fn find_around(path: &Path) -> Result<Option<Found>, PiecesFault> {
    let name = path.file_name().and_then(|name| name.to_str());
    let Some(name) = name else {
        return Ok(None);
    };
    let folder = path.parent().unwrap_or(Path::new(""));
    for (series, number) in Series::of(name) {
        // A folder that cannot be listed is taken to hold one file.
        let mut members = members(folder, &series).unwrap_or_default();
        members.insert(number, name.to_owned());
        if is_plausible(&series, &members) && !are_all_beginnings(folder, &members) {
            return assemble(folder, &series, &members).map(Some);
        }
    }
    Ok(None)
}

/// Why a folder is not an image.
#[derive(Debug)]
pub(crate) enum FolderFault {
    /// The file system cannot be read.
    Io(io::Error),
    /// Its pieces are not a complete image.
    Pieces(PiecesFault),
    /// It does not hold the pieces of one image; these are its files.
    NotOne(Vec<String>),
}

/// The pieces in a folder that holds those of one image and nothing else that could be an image.
///
/// # Errors
/// [`FolderFault`].
pub(crate) fn find_in_folder(folder: &Path) -> Result<Found, FolderFault> {
    let names = names(folder).map_err(FolderFault::Io)?;
    let mut found: BTreeMap<Series, String> = BTreeMap::new();
    for name in &names {
        let all = Series::of(name).into_iter();
        let first = all.map(|(series, _)| series).find(|series| {
            let members = members_of(series, &names);
            let enough = members.len() > 1 || matches!(series.numbers, Numbers::Ending);
            enough && is_plausible(series, &members) && !are_all_beginnings(folder, &members)
        });
        if let Some(series) = first {
            found.entry(series).or_insert_with(|| name.clone());
        }
    }
    let only = found.into_keys().next().filter(|series| {
        let mut rest = names.iter().filter(|name| {
            let belongs = |(other, _): (Series, u64)| other == *series;
            !Series::of(name).into_iter().any(belongs)
        });
        // Read-me and checksum files may lie beside them; another image may not.
        rest.all(|name| crate::archive::is_beside(name))
    });
    match only {
        Some(series) => {
            assemble(folder, &series, &members_of(&series, &names)).map_err(FolderFault::Pieces)
        }
        None => Err(FolderFault::NotOne(names)),
    }
}

/// The pieces of one image among the members of an archive, in their order.
#[derive(Debug)]
pub(crate) struct Group {
    /// The members' names in full.
    pub(crate) members: Vec<String>,
    /// The name of the whole.
    pub(crate) name: String,
    /// Whether they are a zip that its packer cut.
    pub(crate) is_zip: bool,
}

/// The pieces among the names of members, with their sizes: all in one folder, with nothing beside
/// them that may be an image. `None`: they are something else.
///
/// # Errors
/// They are not a complete image.
pub(crate) fn find_among(all: &[(String, u64)]) -> Result<Option<Group>, PiecesFault> {
    let plain = |name: &String| name.rsplit('/').next().unwrap_or(name).to_owned();
    let names: Vec<String> = all.iter().map(|(name, _)| plain(name)).collect();
    for name in &names {
        for (series, _) in Series::of(name) {
            let members = members_of(&series, &names);
            // A last disk alone is an ordinary zip.
            if members.len() < 2 || !is_plausible(&series, &members) {
                continue;
            }
            let belongs = |name: &&String| members.values().any(|member| member == *name);
            let mut rest = names.iter().filter(|name| !belongs(name));
            if !rest.all(|name| crate::archive::is_beside(name)) {
                continue;
            }
            let full = |member: &String| all.iter().find(|(name, _)| plain(name) == *member);
            let found: Vec<&(String, u64)> = members.values().filter_map(full).collect();
            let sizes: Vec<u64> = found.iter().map(|(_, size)| *size).collect();
            check(&series, &members, &sizes)?;
            return Ok(Some(Group {
                members: found.into_iter().map(|(name, _)| name.clone()).collect(),
                name: series.whole(),
                is_zip: series.numbers == Numbers::ZipDisks,
            }));
        }
    }
    Ok(None)
}

fn names(folder: &Path) -> io::Result<Vec<String>> {
    let folder = if folder.as_os_str().is_empty() {
        Path::new(".")
    } else {
        folder
    };
    let mut names = Vec::new();
    for entry in fs::read_dir(folder)? {
        let entry = entry?;
        let is_file = entry.path().is_file();
        if let (true, Ok(name)) = (is_file, entry.file_name().into_string()) {
            names.push(name);
        }
    }
    names.sort();
    Ok(names)
}

fn members(folder: &Path, series: &Series) -> io::Result<BTreeMap<u64, String>> {
    Ok(members_of(series, &names(folder)?))
}

fn members_of(series: &Series, names: &[String]) -> BTreeMap<u64, String> {
    let in_series = |name: &String| {
        let all = Series::of(name).into_iter();
        let own = all.filter(|(other, _)| other == series);
        own.map(|(_, number)| (number, name.clone())).next()
    };
    names.iter().filter_map(in_series).collect()
}

/// Whether these numbers count pieces, and are not dates, versions or other endings.
fn is_plausible(series: &Series, members: &BTreeMap<u64, String>) -> bool {
    let count = members.len() as u64;
    let numbered = members.keys().filter(|&&number| number != LAST_DISK);
    let Some(&last) = numbered.clone().next_back() else {
        return false;
    };
    let first = *numbered.clone().next().unwrap_or(&last);
    let dense = last <= count * 2 + SLACK;
    match series.numbers {
        Numbers::ZipDisks | Numbers::Part => true,
        Numbers::Ending => dense,
        Numbers::Digits => dense && count > 1 && first == 0,
        Numbers::Letters | Numbers::ThreeLetters => dense && count > 1,
    }
}

/// Files that each begin like an image of their own are not pieces. A single one may have a version
/// at the end of its name.
fn are_all_beginnings(folder: &Path, members: &BTreeMap<u64, String>) -> bool {
    members
        .values()
        .take(3)
        .all(|name| is_beginning(&folder.join(name)))
}

/// Whether the first sector of a medium ends with the boot sector signature.
pub(crate) fn has_boot_sector(head: &[u8]) -> bool {
    head.get(510..512) == Some(&[0x55, 0xaa])
}

fn is_beginning(path: &Path) -> bool {
    use std::io::Read;
    let mut head = Vec::new();
    let read = fs::File::open(path).and_then(|file| file.take(512).read_to_end(&mut head));
    read.is_ok() && (has_boot_sector(&head) || crate::Wrapping::detect(&head).is_some())
}

fn assemble(
    folder: &Path,
    series: &Series,
    members: &BTreeMap<u64, String>,
) -> Result<Found, PiecesFault> {
    let paths: Vec<_> = members.values().map(|name| folder.join(name)).collect();
    let sizes = paths
        .iter()
        .map(|path| fs::metadata(path).map_or(0, |facts| facts.len()));
    let sizes: Vec<u64> = sizes.collect();
    check(series, members, &sizes)?;
    Ok(Found {
        paths,
        name: series.whole(),
        is_zip: series.numbers == Numbers::ZipDisks,
    })
}

/// Checks that none is missing, and none but the last is shorter than the others.
fn check(
    series: &Series,
    members: &BTreeMap<u64, String>,
    sizes: &[u64],
) -> Result<(), PiecesFault> {
    let missing = missing(series, members);
    if !missing.is_empty() {
        return Err(PiecesFault::Missing {
            names: missing,
            present: members.len(),
        });
    }
    let largest = sizes.iter().copied().max().unwrap_or(0);
    let all_but_last = &sizes[..sizes.len().saturating_sub(1)];
    if let Some(at) = all_but_last.iter().position(|&size| size < largest) {
        return Err(PiecesFault::Short {
            name: members.values().nth(at).cloned().unwrap_or_default(),
            found: sizes[at],
            others: largest,
        });
    }
    Ok(())
}

/// The names of missing pieces, at most eight.
fn missing(series: &Series, members: &BTreeMap<u64, String>) -> Vec<String> {
    let numbered = || members.range(..LAST_DISK);
    let like = numbered().next().map_or("", |(_, name)| name.as_str());
    let last = numbered().next_back().map_or(0, |(&number, _)| number);
    let with_letters = matches!(series.numbers, Numbers::Letters | Numbers::ThreeLetters);
    let starts_at_zero = members.contains_key(&0) || with_letters;
    let first = if starts_at_zero { 0 } else { 1 };
    let absent = (first..last).filter(|number| !members.contains_key(number));
    let last_disk = series.numbers == Numbers::ZipDisks && !members.contains_key(&LAST_DISK);
    absent
        .chain(last_disk.then_some(LAST_DISK))
        .map(|number| series.name(number, like))
        .take(8)
        .collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn folder(names: &[&str]) -> tempfile::TempDir {
        let folder = tempfile::tempdir().unwrap();
        for name in names {
            fs::write(folder.path().join(name), "12345678").unwrap();
        }
        folder
    }

    fn around(names: &[&str], given: &str) -> Result<Option<(Vec<String>, String)>, PiecesFault> {
        let folder = folder(names);
        let found = find_around(&folder.path().join(given))?;
        Ok(found.map(|found| {
            let names = found.paths.iter().map(|path| {
                let name = path.file_name().unwrap_or_default();
                name.to_string_lossy().into_owned()
            });
            (names.collect(), found.name)
        }))
    }

    #[rstest]
    #[case::digits(&["hut.img.xz.001", "hut.img.xz.002", "hut.img.xz.003"], "hut.img.xz")]
    #[case::from_zero(&["hut.img.00", "hut.img.01"], "hut.img")]
    #[case::letters(&["hut.img.xz-aa", "hut.img.xz-ab", "hut.img.xz-ac"], "hut.img.xz")]
    #[case::letters_without_mark(&["hut.img.xzaa", "hut.img.xzab"], "hut.img.xz")]
    #[case::three_letters(&["hut.img.aaa", "hut.img.aab"], "hut.img")]
    #[case::part(&["hut.img.part1", "hut.img.part2"], "hut.img")]
    #[case::part_inside(&["hut.part01.img.xz", "hut.part02.img.xz"], "hut.img.xz")]
    #[case::zip(&["hut.z01", "hut.z02", "hut.zip"], "hut.zip")]
    #[case::sevenz(&["hut.7z.001", "hut.7z.002"], "hut.7z")]
    fn any_piece_names_them_all(#[case] names: &[&str], #[case] whole: &str) {
        for given in names {
            let (found, name) = around(names, given).unwrap().unwrap();
            assert_eq!(found, names);
            assert_eq!(name, whole);
        }
    }

    #[test]
    fn ten_parts_are_in_the_order_of_their_numbers() {
        let names: Vec<String> = (1..=11).map(|n| format!("hut.img.part{n}")).collect();
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        let (found, _) = around(&names, "hut.img.part11").unwrap().unwrap();
        assert_eq!(found, names);
    }

    /// As `split` names them when it does not know how many there will be.
    #[rstest]
    #[case::letters(&["yy", "yz", "zaaa", "zaab"], SHORT_LETTERS + 2)]
    #[case::digits(&[".88", ".89", ".9000", ".9001"], SHORT_DIGITS + 2)]
    fn many_pieces_go_on_with_longer_names(#[case] last: &[&str], #[case] count: u64) {
        let name = |number| {
            if last[0].starts_with('.') {
                series("hut.", Numbers::Digits).name(number, "")
            } else {
                series("hut", Numbers::Letters).name(number, "")
            }
        };
        let names: Vec<String> = (0..count).map(name).collect();
        for (ending, name) in last.iter().rev().zip(names.iter().rev()) {
            assert_eq!(*name, format!("hut{ending}"));
        }
        let names: Vec<&str> = names.iter().map(String::as_str).collect();
        let (found, _) = around(&names, names[1]).unwrap().unwrap();
        assert_eq!(found, names);
    }

    #[rstest]
    #[case::alone(&["hut.img"], "hut.img")]
    #[case::dates(&["os-2026.11.22", "os-2026.11.23"], "os-2026.11.23")]
    #[case::days(&["os-2026.11.01", "os-2026.11.02"], "os-2026.11.01")]
    #[case::endings(&["hut.gz", "hut.xz"], "hut.xz")]
    #[case::zip(&["hut.zip", "other.zip"], "hut.zip")]
    #[case::word(&["hut.partner1"], "hut.partner1")]
    fn others_are_files_of_their_own(#[case] names: &[&str], #[case] given: &str) {
        assert_eq!(around(names, given).unwrap(), None);
    }

    #[rstest]
    #[case::middle(&["h.001", "h.003"], "h.003", "h.002")]
    #[case::first(&["h.img.002", "h.img.003"], "h.img.002", "h.img.001")]
    #[case::letters(&["h.img-aa", "h.img-ac"], "h.img-aa", "h.img-ab")]
    #[case::part(&["h.part1", "h.part3"], "h.part1", "h.part2")]
    #[case::zip(&["h.z01", "h.z03", "h.zip"], "h.zip", "h.z02")]
    #[case::zip_end(&["h.z01", "h.z02"], "h.z01", "h.zip")]
    fn a_missing_one_is_named(#[case] names: &[&str], #[case] given: &str, #[case] name: &str) {
        let fault = around(names, given).unwrap_err();
        let expected = PiecesFault::Missing {
            names: vec![name.to_owned()],
            present: names.len(),
        };
        assert_eq!(fault, expected);
    }

    #[test]
    fn a_short_one_is_named() {
        let folder = folder(&["h.001", "h.002", "h.003"]);
        fs::write(folder.path().join("h.002"), "1234").unwrap();
        let fault = find_around(&folder.path().join("h.001")).unwrap_err();
        assert_eq!(fault.to_string(), "piece h.002 has 4 bytes, the others 8");
    }

    #[test]
    fn images_side_by_side_are_no_pieces() {
        let folder = folder(&[]);
        for name in ["os.001", "os.002"] {
            fs::write(folder.path().join(name), b"\xfd7zXZ\0 and so on").unwrap();
        }
        assert!(
            find_around(&folder.path().join("os.001"))
                .unwrap()
                .is_none()
        );
    }

    #[test]
    fn a_version_at_the_end_of_a_name_is_no_number_of_a_piece() {
        let folder = folder(&[]);
        let path = folder.path().join("larkfell-1.002");
        fs::write(&path, b"\xfd7zXZ\0 and so on").unwrap();
        assert!(find_around(&path).unwrap().is_none());
    }

    #[test]
    fn a_folder_of_pieces_with_a_read_me() {
        let whole = folder(&["h.img.001", "h.img.002", "read-me.txt", "SHA256SUMS"]);
        let found = find_in_folder(whole.path()).unwrap();
        assert_eq!(found.paths.len(), 2);
        let mixed = folder(&["h.img.001", "h.img.002", "other.img"]);
        let fault = find_in_folder(mixed.path()).unwrap_err();
        assert!(matches!(fault, FolderFault::NotOne(names) if names.len() == 3));
    }
}
