//! Changing a catalogue's file: comments and order stay.

use toml_edit::{Array, ArrayOfTables, Datetime, DocumentMut, Item, Table, Value, value};

use crate::{Follow, Image, ImageName};
use pinewrit_settings::document::architecture_key;

/// Why a catalogue's file cannot be changed.
#[derive(Debug, thiserror::Error)]
pub enum EditError {
    /// It is not TOML.
    #[error("the catalogue cannot be read")]
    Form(#[from] toml_edit::TomlError),
    /// It has this image already.
    #[error("{0} is in the catalogue already")]
    Known(ImageName),
    /// A key that lists something is used for something else.
    #[error("`{0}` is not a list of tables")]
    NotAList(&'static str),
}

fn list<'d>(
    document: &'d mut DocumentMut,
    key: &'static str,
) -> Result<&'d mut ArrayOfTables, EditError> {
    let item = document
        .entry(key)
        .or_insert(Item::ArrayOfTables(ArrayOfTables::new()));
    item.as_array_of_tables_mut()
        .ok_or(EditError::NotAList(key))
}

fn is(table: &Table, key: &str, wanted: &str) -> bool {
    table.get(key).and_then(Item::as_str) == Some(wanted)
}

fn is_image(table: &Table, name: &ImageName) -> bool {
    let has_version = |version: &String| is(table, "version", version);
    is(table, "name", &name.name) && name.version.as_ref().is_none_or(has_version)
}

/// As on the package, if that is exact.
fn size_text(bytes: u64) -> String {
    match bytes % 1_000_000_000 {
        0 => format!("{}GB", bytes / 1_000_000_000),
        _ => bytes.to_string(),
    }
}

/// The text of a catalogue with one more image.
///
/// # Errors
/// [`EditError`].
pub fn add(text: &str, image: &Image) -> Result<String, EditError> {
    let mut document: DocumentMut = text.parse()?;
    let name = image.full_name();
    let images = list(&mut document, "image")?;
    if images.iter().any(|table| is_image(table, &name)) {
        return Err(EditError::Known(name));
    }
    push(&mut document, "image", table_of(image))?;
    Ok(document.to_string())
}

/// An image as a table, in the order in which people look for things.
fn table_of(image: &Image) -> Table {
    let mut table = Table::new();
    let mut put = |key: &str, item: Option<Value>| {
        if let Some(item) = item {
            table.insert(key, Item::Value(item));
        }
    };
    let text = |text: &Option<String>| text.as_deref().map(Value::from);
    let bytes = |bytes: Option<u64>| Some(Value::from(i64::try_from(bytes?).unwrap_or(i64::MAX)));
    put("name", Some(Value::from(&image.name)));
    put("version", Some(Value::from(&image.version)));
    let date = image.date.and_then(|date| date.to_string().parse().ok());
    put("date", date.map(|date: Datetime| Value::from(date)));
    put("source", Some(Value::from(&image.source)));
    put("packed", bytes(image.packed));
    put("unpacked", bytes(image.unpacked));
    let checksum = image.checksum.as_ref().map(ToString::to_string);
    put("checksum", text(&checksum));
    put("signed", image.signed.then(|| Value::from(true)));
    put(
        "architecture",
        image
            .architecture
            .map(|one| Value::from(architecture_key(one))),
    );
    let boards = image.boards.iter().collect::<Array>();
    put(
        "boards",
        (!boards.is_empty()).then_some(Value::Array(boards)),
    );
    put(
        "smallest",
        image.smallest.map(|bytes| Value::from(size_text(bytes))),
    );
    put("intake", text(&image.intake));
    put("notes", text(&image.notes));
    let replaced_by = image.replaced_by.as_ref().map(ToString::to_string);
    put("replaced-by", text(&replaced_by));
    table
}

/// Adds a table at the end, behind an empty line. Comments that were the end stay before it.
fn push(document: &mut DocumentMut, key: &'static str, mut table: Table) -> Result<(), EditError> {
    let before = document.trailing().as_str().unwrap_or_default().to_owned();
    let is_first = before.is_empty() && document.to_string().is_empty();
    let gap = if is_first { "" } else { "\n" };
    table.decor_mut().set_prefix(format!("{before}{gap}"));
    list(document, key)?.push(table);
    document.set_trailing("");
    Ok(())
}

/// The text without an image: one version, or all of them. `None` if it has none of that name.
///
/// # Errors
/// [`EditError`].
pub fn remove(text: &str, name: &ImageName) -> Result<Option<String>, EditError> {
    without(text, "image", |table| is_image(table, name))
}

fn without(
    text: &str,
    key: &'static str,
    is_meant: impl Fn(&Table) -> bool,
) -> Result<Option<String>, EditError> {
    let mut document: DocumentMut = text.parse()?;
    if document.get(key).is_none() {
        return Ok(None);
    }
    let tables = list(&mut document, key)?;
    let before = tables.len();
    tables.retain(|table| !is_meant(table));
    Ok((tables.len() < before).then(|| document.to_string()))
}

/// The text with one more catalogue to follow, or with another key for one that is followed.
///
/// # Errors
/// [`EditError`].
pub fn follow(text: &str, follow: &Follow) -> Result<String, EditError> {
    let text = stop_following(text, &follow.address)?.unwrap_or_else(|| text.to_owned());
    let mut document: DocumentMut = text.parse()?;
    let mut table = Table::new();
    table.insert("address", value(&follow.address));
    if let Some(key) = &follow.signed_by {
        table.insert("signed-by", value(key));
    }
    push(&mut document, "follow", table)?;
    Ok(document.to_string())
}

/// The text without a catalogue that is followed; `None` if it is not.
///
/// # Errors
/// [`EditError`].
pub fn stop_following(text: &str, address: &str) -> Result<Option<String>, EditError> {
    without(text, "follow", |table| is(table, "address", address))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::Catalogue;
    use proptest::prelude::*;

    fn image(version: &str) -> Image {
        let text = format!(
            "[[image]]\nname = \"larkfell-os\"\nversion = \"{version}\"\nsource = \"os.img.xz\"\n\
             date = 2026-10-02\nboards = [\"Brindle B2\"]\narchitecture = \"arm64\"\n\
             packed = 1000\nunpacked = 4000\nsmallest = \"4GB\"\nintake = \"cloud-init\"\n\
             notes = \"made \\\"up\\\"\"\nreplaced-by = \"other-os@3\"\nsigned = true\n\
             checksum = \"sha256:{}\"\n",
            "0a".repeat(32)
        );
        Catalogue::parse(&text).unwrap().images.remove(0)
    }

    #[test]
    fn comments_stay() {
        let text = "# ours\nname = \"huts\"\n\n[[image]] # the old one\nname = \"larkfell-os\"\n\
                    version = \"1\"\nsource = \"a\"\n";
        let more = add(text, &image("2.4")).unwrap();
        assert!(more.starts_with(text), "{more}");
        assert_eq!(Catalogue::parse(&more).unwrap().images[1], image("2.4"));
        assert!(matches!(
            add(&more, &image("2.4")),
            Err(EditError::Known(_))
        ));
        let name = ImageName::parse("larkfell-os@2.4").unwrap();
        assert_eq!(
            remove(&more, &name).unwrap().unwrap().trim_end(),
            text.trim_end()
        );
        assert_eq!(remove(text, &name).unwrap(), None);
        let all = ImageName::parse("larkfell-os").unwrap();
        let none = remove(&more, &all).unwrap().unwrap();
        assert!(Catalogue::parse(&none).unwrap().images.is_empty());
    }

    #[test]
    fn following_begins_and_ends() {
        let with = |key: Option<&str>| Follow {
            address: "https://lark.example/shelf.toml".to_owned(),
            signed_by: key.map(str::to_owned),
        };
        let text = follow("", &with(None)).unwrap();
        let text = follow(&text, &with(Some("lark.pub"))).unwrap();
        assert_eq!(
            Catalogue::parse(&text).unwrap().follows,
            [with(Some("lark.pub"))]
        );
        let gone = stop_following(&text, "https://lark.example/shelf.toml").unwrap();
        assert!(Catalogue::parse(&gone.unwrap()).unwrap().follows.is_empty());
    }

    proptest! {
        #[test]
        fn what_is_added_is_read_again(
            version in "[0-9a-z.+~]{1,20}", notes in "\\PC{0,40}", source in "[a-z/ ]{1,20}",
            board in "\\PC{1,20}", packed in 0..u64::MAX / 2,
        ) {
            let image = Image {
                version, source, packed: Some(packed), notes: Some(notes), boards: vec![board],
                ..image("1")
            };
            let text = add("name = \"huts\"\n", &image).unwrap();
            prop_assert_eq!(&Catalogue::parse(&text).unwrap().images[0], &image);
        }
    }
}
