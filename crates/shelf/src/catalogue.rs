//! A catalogue of images. The format is described in `docs/formats.md`.

use std::collections::HashSet;
use std::path::Path;

use jiff::civil::Date;
use pinewrit_image::Checksum;
use pinewrit_settings::Mistakes;
use pinewrit_settings::document::{Document, Fields, NoSecrets, Wrong, architecture, size};
use pinewrit_volume::Architecture;

use crate::ImageName;
use crate::name::{is_name, is_version};

/// The most images in a catalogue.
const MAX_IMAGES: usize = 10_000;

/// A catalogue.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Catalogue {
    /// What it is called.
    pub name: Option<String>,
    /// Whether each of its images must be signed by a key that the user has.
    pub signed: bool,
    /// Its images, in the order of the file.
    pub images: Vec<Image>,
    /// Other catalogues that its owner uses.
    pub follows: Vec<Follow>,
}

/// What a catalogue says of an image.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Image {
    /// Its name, which all its versions share.
    pub name: String,
    /// The version.
    pub version: String,
    /// When that was published.
    pub date: Option<Date>,
    /// The boards that it is for.
    pub boards: Vec<String>,
    /// Their processor.
    pub architecture: Option<Architecture>,
    /// Where it is: an address, or a path beside the catalogue.
    pub source: String,
    /// Its size as it is there, in bytes.
    pub packed: Option<u64>,
    /// Its unpacked size in bytes.
    pub unpacked: Option<u64>,
    /// Checksum of the file as it is there.
    pub checksum: Option<Checksum>,
    /// The smallest medium that it is meant for, in bytes.
    pub smallest: Option<u64>,
    /// How it takes settings.
    pub intake: Option<String>,
    /// What people should know.
    pub notes: Option<String>,
    /// What is to be used instead.
    pub replaced_by: Option<ImageName>,
    /// Whether it must be signed by a key that the user has.
    pub signed: bool,
}

/// A catalogue that somebody else keeps.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Follow {
    /// Where it is: an address, or a path.
    pub address: String,
    /// The file with the key that must have signed it.
    pub signed_by: Option<String>,
}

const KEYS: [&str; 4] = ["name", "signed", "image", "follow"];
const IMAGE_KEYS: [&str; 14] = [
    "name",
    "version",
    "date",
    "boards",
    "architecture",
    "source",
    "packed",
    "unpacked",
    "checksum",
    "smallest",
    "intake",
    "notes",
    "replaced-by",
    "signed",
];
const FOLLOW_KEYS: [&str; 2] = ["address", "signed-by"];

impl Catalogue {
    /// The catalogue in a text.
    ///
    /// # Errors
    /// All mistakes, with their lines.
    pub fn parse(text: &str) -> Result<Self, Mistakes> {
        let document = Document::new(text, Path::new(""), &NoSecrets);
        let found = document.parse().map(|root| {
            let root = Fields::new(&document, &root, 1, "a catalogue", &KEYS);
            catalogue(&document, &root)
        });
        match found.filter(|_| !document.has_mistakes()) {
            Some(found) => Ok(found),
            None => Err(document.into_mistakes()),
        }
    }
}

impl Image {
    /// Name and version.
    pub fn full_name(&self) -> ImageName {
        ImageName {
            name: self.name.clone(),
            version: Some(self.version.clone()),
        }
    }
}

fn catalogue(document: &Document<'_>, root: &Fields<'_, '_>) -> Catalogue {
    let tables = root.tables("image", "image", &IMAGE_KEYS);
    if tables.len() > MAX_IMAGES {
        let what = format!("{} images in one catalogue", tables.len());
        document.mistake(1, what, format!("at most {MAX_IMAGES}"));
    }
    let mut images: Vec<Image> = Vec::new();
    let mut known = HashSet::new();
    for fields in tables.iter().take(MAX_IMAGES) {
        let Some(image) = image(fields) else { continue };
        if !known.insert((image.name.clone(), image.version.clone())) {
            let what = format!("{} is listed twice", image.full_name());
            let remedy = "remove one of them, or name its version";
            document.mistake(fields.line(), what, remedy);
        }
        images.push(image);
    }
    let follows = root.tables("follow", "follow", &FOLLOW_KEYS);
    Catalogue {
        name: root.string("name").map(|at| at.value),
        signed: root.boolean("signed").is_some_and(|at| at.value),
        images,
        follows: follows.iter().filter_map(follow).collect(),
    }
}

fn image(fields: &Fields<'_, '_>) -> Option<Image> {
    fields.must_have("name", "an image without a name", "name = \"larkfell-os\"");
    fields.must_have("version", "an image without a version", "version = \"2.4\"");
    fields.must_have(
        "source",
        "an image without a place",
        "source = \"larkfell-os-2.4.img.xz\", or an address",
    );
    let text = |key: &str| fields.string(key).map(|at| at.value);
    let boards = fields.string_or_strings("boards").into_iter();
    // All mistakes are found before the first one ends it.
    let image = Image {
        date: day(fields),
        boards: boards.map(|at| at.value).collect(),
        architecture: fields.checked("architecture", architecture),
        packed: bytes(fields, "packed"),
        unpacked: bytes(fields, "unpacked"),
        checksum: fields.checked("checksum", checksum),
        smallest: fields.checked("smallest", size),
        intake: text("intake"),
        notes: text("notes"),
        replaced_by: fields.checked("replaced-by", replacement),
        signed: fields.boolean("signed").is_some_and(|at| at.value),
        ..Image::default()
    };
    let name = fields.checked("name", |text| match is_name(text) {
        true => Ok(text.to_owned()),
        false => Err(Wrong::new(
            format!("{text:?} is not a name for an image"),
            "letters, digits, `.`, `_`, `-`; the version has its own key",
        )),
    });
    let version = fields.checked("version", |text| match is_version(text) {
        true => Ok(text.to_owned()),
        false => Err(Wrong::new(
            format!("{text:?} is not a version"),
            "letters, digits and `._-+~:`, without spaces",
        )),
    });
    let source = fields.checked("source", |text| match text.is_empty() {
        false => Ok(text.to_owned()),
        true => Err(Wrong::new(
            "`source` is empty",
            "source = \"larkfell-os-2.4.img.xz\", or an address",
        )),
    });
    Some(Image {
        name: name?,
        version: version?,
        source: source?,
        ..image
    })
}

/// A number of bytes, or a size with its unit.
fn bytes(fields: &Fields<'_, '_>, key: &str) -> Option<u64> {
    if fields.has_text(key) {
        return fields.checked(key, size);
    }
    let number = fields.number(key, 0..=i64::MAX)?;
    u64::try_from(number).ok()
}

fn day(fields: &Fields<'_, '_>) -> Option<Date> {
    let at = fields.day("date")?;
    let read = at.value.parse::<Date>().map_err(|_| {
        let what = format!("{:?} is not a day", at.value);
        Wrong::new(what, "year, month and day: date = 2026-10-02")
    });
    fields.accept(at.line, read)
}

fn checksum(text: &str) -> Result<Checksum, Wrong> {
    let what = || format!("{text:?} is not a checksum");
    let found = Checksum::parse(text)
        .ok_or_else(|| Wrong::new(what(), "checksum = \"sha256:…\" with 64 hexadecimal digits"))?;
    if found.kind.is_weak() {
        let what = format!("{} is not proof against forgery", found.kind.word());
        return Err(Wrong::new(what, "sha256 or sha512"));
    }
    Ok(found)
}

fn replacement(text: &str) -> Result<ImageName, Wrong> {
    let wrong = |e: crate::NameError| Wrong::new(e.to_string(), "NAME or NAME@VERSION");
    ImageName::parse(text).map_err(wrong)
}

fn follow(fields: &Fields<'_, '_>) -> Option<Follow> {
    fields.must_have(
        "address",
        "a catalogue without a place",
        "address = \"https://larkfell.example/shelf.toml\"",
    );
    Some(Follow {
        signed_by: fields.string("signed-by").map(|at| at.value),
        address: fields.string("address").map(|at| at.value)?,
    })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn all_mistakes_are_told_at_once() {
        let text = "sined = true\n\
            [[image]]\nname = \"lark fell\"\ndate = \"autumn\"\nchecksum = \"sha256:12\"\n\
            architecture = \"arm65\"\npacked = -1\n\
            [[image]]\nname = \"os\"\nversion = \"1\"\nsource = \"\"\nreplaced-by = \"@\"\n\
            checksum = \"md5:0123456789abcdef0123456789abcdef\"\n[[follow]]\n";
        let found = Catalogue::parse(text).unwrap_err().0;
        let lines: Vec<usize> = found.iter().map(|remark| remark.line).collect();
        assert_eq!(
            lines,
            [1, 2, 2, 3, 4, 5, 6, 7, 11, 12, 13, 14],
            "{found:#?}"
        );
    }

    #[test]
    fn two_of_a_version_are_a_mistake() {
        let one = "[[image]]\nname = \"os\"\nversion = \"1\"\nsource = \"a\"\n";
        assert!(Catalogue::parse(one).is_ok());
        let found = Catalogue::parse(&one.repeat(2)).unwrap_err();
        assert!(found.0[0].what.contains("os@1 is listed twice"));
    }

    #[test]
    fn a_day_is_a_date_or_a_string() {
        for day in ["2026-10-02", "\"2026-10-02\""] {
            let text = format!(
                "[[image]]\nname = \"os\"\nversion = \"1\"\nsource = \"a\"\ndate = {day}\n"
            );
            let found = Catalogue::parse(&text).unwrap();
            assert_eq!(found.images[0].date, "2026-10-02".parse().ok());
        }
    }

    proptest! {
        #[test]
        fn no_text_panics(text in "\\PC{0,200}") {
            let _ = Catalogue::parse(&text);
        }
    }
}
