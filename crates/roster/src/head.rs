//! The roster's own keys: its name, its media, its network, where units come from.

use std::path::{Path, PathBuf};

use ipnet::IpNet;
use pinewrit_disk::parse_size;
use pinewrit_image::Location;
use pinewrit_settings::document::{At, Document, Fields, Wrong};
use toml::de::{DeTable, DeValue};

use crate::among::CommonNetwork;
use crate::{AddressRange, Content, MAX_UNITS, UnitMedium};

const TOP: &[&str] = &[
    "name",
    "board",
    "signed-by",
    "settings",
    "each",
    "image",
    "checksum",
    "grow",
    "intake",
    "least",
    "medium",
    "unit",
    "units",
    "count",
    "network",
];
const MEDIUM: &[&str] = &[
    "role",
    "image",
    "checksum",
    "layout",
    "gets-settings",
    "grow",
    "intake",
    "least",
];
const COUNT: &[&str] = &["units", "first", "name", "address"];
const NETWORK: &[&str] = &["range", "pool", "reserved"];

/// What a roster says outside its units.
pub(crate) struct Head {
    /// The board that is to start with it.
    pub(crate) board: Option<String>,
    /// The file with the key that must have signed all images.
    pub(crate) signed_by: Option<PathBuf>,
    pub(crate) name: String,
    pub(crate) media: Vec<UnitMedium>,
    pub(crate) settings_file: Option<At<String>>,
    pub(crate) sheet: Option<At<String>>,
    pub(crate) count: Option<Count>,
    pub(crate) network: CommonNetwork,
    /// Where paths begin.
    pub(crate) folder: PathBuf,
    /// Whether the roster gives settings that all units share, or templates.
    pub(crate) has_settings: bool,
}

/// Counted units.
pub(crate) struct Count {
    pub(crate) units: u64,
    pub(crate) first: u64,
    pub(crate) name: At<String>,
    pub(crate) address: Option<At<IpNet>>,
    pub(crate) line: usize,
}

impl Head {
    /// The shared settings that are in the roster itself.
    pub(crate) fn settings_table<'t>(&self, root: &DeTable<'t>) -> DeTable<'t> {
        table_of(root, "settings")
    }

    /// The settings of which each unit gets its own version.
    pub(crate) fn each_table<'t>(&self, root: &DeTable<'t>) -> DeTable<'t> {
        table_of(root, "each")
    }
}

fn table_of<'t>(root: &DeTable<'t>, key: &str) -> DeTable<'t> {
    match root.get(key).map(|value| value.get_ref()) {
        Some(DeValue::Table(table)) => table.clone(),
        _ => DeTable::new(),
    }
}

/// Reads all of it; mistakes are the document's.
pub(crate) fn read(document: &Document<'_>, root: &DeTable<'_>, path: &Path) -> Head {
    let top = Fields::new(document, root, 1, "the roster", TOP);
    let folder = path.parent().unwrap_or(Path::new(""));
    let stem = path.file_stem().unwrap_or(path.as_os_str());
    let name = top.checked("name", name);
    let settings_file = top.has_text("settings").then(|| top.string("settings"));
    for key in ["each", "settings"] {
        if top.has(key) && !(key == "settings" && settings_file.is_some()) {
            // The keys in it are checked with each unit.
            let keys: Vec<String> = table_of(root, key)
                .keys()
                .map(|key| key.get_ref().to_string())
                .collect();
            let keys: Vec<&str> = keys.iter().map(String::as_str).collect();
            top.table(key, &keys);
        }
    }
    let media = read_media(document, &top, folder);
    let has_settings = top.has("settings") || top.has("each");
    if has_settings && !media.is_empty() && !media.iter().any(|medium| medium.gets_settings) {
        let what = "no medium gets the settings";
        document.mistake(1, what, "gets-settings = true in one of the [[medium]]");
    }
    let board = top.string("board");
    let signed_by = top.string("signed-by");
    Head {
        board: board.map(|at| pinewrit_settings::place_of_board(&at.value, folder)),
        signed_by: signed_by.map(|at| folder.join(at.value)),
        folder: folder.to_owned(),
        has_settings,
        name: name.unwrap_or_else(|| stem.to_string_lossy().into_owned()),
        media,
        settings_file: settings_file.flatten(),
        sheet: top.string("units"),
        count: read_count(document, &top),
        network: read_network(document, &top),
    }
}

/// A name of a batch, a unit or a role: it is part of file names.
pub(crate) fn name(text: &str) -> Result<String, Wrong> {
    let is_plain = |c: char| c.is_ascii_alphanumeric() || matches!(c, '-' | '_' | '.');
    let starts_well = text
        .chars()
        .next()
        .is_some_and(|c| c.is_ascii_alphanumeric());
    if starts_well && text.len() <= 64 && text.chars().all(is_plain) {
        return Ok(text.to_owned());
    }
    let what = format!("`{}` is not a valid name", text.escape_debug());
    Err(Wrong::new(
        what,
        "up to 64 letters, digits, hyphens, dots and underscores",
    ))
}

fn read_media(document: &Document<'_>, top: &Fields<'_, '_>, folder: &Path) -> Vec<UnitMedium> {
    let tables = top.tables("medium", "medium", MEDIUM);
    if tables.is_empty() {
        return read_medium(document, top, folder, String::new())
            .into_iter()
            .collect();
    }
    for key in ["image", "checksum", "grow", "intake", "least"] {
        if top.has(key) {
            let what = format!("`{key}` belongs to one of the [[medium]]");
            document.mistake(top.line(), what, "move it there");
        }
    }
    let mut media: Vec<UnitMedium> = Vec::new();
    for fields in &tables {
        fields.must_have("role", "a medium without a role", "role = \"system\"");
        let role = fields.checked("role", name).unwrap_or_default();
        if media
            .iter()
            .any(|other| other.role == role && !role.is_empty())
        {
            let what = format!("two media have the role {role}");
            document.mistake(fields.line(), what, "each role once");
        }
        media.extend(read_medium(document, fields, folder, role));
    }
    if !media.iter().any(|medium| medium.gets_settings)
        && !tables.iter().any(|fields| fields.has("gets-settings"))
        && let Some(first) = media
            .iter_mut()
            .find(|one| matches!(one.content, Content::Image { .. }))
    {
        first.gets_settings = true;
    }
    media
}

fn read_medium(
    document: &Document<'_>,
    fields: &Fields<'_, '_>,
    folder: &Path,
    role: String,
) -> Option<UnitMedium> {
    let is_only = role.is_empty();
    let content = match (fields.string("image"), !is_only && fields.has("layout")) {
        (Some(_), true) => {
            let what = "a medium with both an image and a layout";
            document.mistake(fields.line(), what, "keep one of them");
            return None;
        }
        (Some(image), false) => read_image(document, fields, folder, &image.value),
        (None, true) => Content::Layout(folder.join(&fields.string("layout")?.value)),
        (None, false) => {
            if !fields.has("image") {
                let what = if is_only {
                    "the roster names no image"
                } else {
                    "a medium without content"
                };
                document.mistake(fields.line(), what, "image = \"larkfell-os.img.zst\"");
            }
            return None;
        }
    };
    let least = fields.checked("least", |text| {
        parse_size(text).map_err(|why| Wrong::new(why, "least = \"4GB\""))
    });
    let gets_settings = !is_only && fields.boolean("gets-settings").is_some_and(|at| at.value);
    Some(UnitMedium {
        gets_settings: gets_settings || is_only,
        role,
        content,
        grows: fields.boolean("grow").is_some_and(|at| at.value),
        intake: fields.string("intake").map(|at| at.value),
        least: least.unwrap_or(0),
    })
}

/// An image, and its checksum if one is given.
pub(crate) fn read_image(
    document: &Document<'_>,
    fields: &Fields<'_, '_>,
    folder: &Path,
    image: &str,
) -> Content {
    if image.is_empty() {
        document.mistake(
            fields.line(),
            "`image` is empty",
            "image = \"larkfell-os.img.zst\"",
        );
    }
    let checksum = fields.string("checksum").map(|at| at.value);
    image_at(folder, image, checksum)
}

/// An image at a path relative to the roster, or at an address.
pub(crate) fn image_at(folder: &Path, image: &str, checksum: Option<String>) -> Content {
    let location = match Location::parse(image.as_ref()) {
        Location::Path(path) => Location::Path(folder.join(path)),
        elsewhere => elsewhere,
    };
    Content::Image { location, checksum }
}

fn read_count(document: &Document<'_>, top: &Fields<'_, '_>) -> Option<Count> {
    let fields = top.table("count", COUNT)?;
    fields.must_have("units", "[count] does not say how many", "units = 12");
    fields.must_have("name", "[count] has no name", "name = \"larkfell-{n:02}\"");
    let most = i64::try_from(MAX_UNITS).unwrap_or(i64::MAX);
    let units = fields.number("units", 1..=most)?;
    let first = fields.number("first", 0..=i64::from(u32::MAX)).unwrap_or(1);
    let address = fields.string("address").and_then(|at| {
        let net = at.value.parse::<IpNet>().map_err(|_| {
            let what = format!("`{}` is not an address with its prefix", at.value);
            Wrong::new(what, "address = \"10.77.0.21/24\", the first unit's")
        });
        let value = document.accept(at.line, net)?;
        Some(At {
            value,
            line: at.line,
        })
    });
    Some(Count {
        units: u64::try_from(units).ok()?,
        first: u64::try_from(first).ok()?,
        name: fields.string("name")?,
        address,
        line: fields.line(),
    })
}

fn read_network(document: &Document<'_>, top: &Fields<'_, '_>) -> CommonNetwork {
    let Some(fields) = top.table("network", NETWORK) else {
        return CommonNetwork::default();
    };
    let all = |key: &str| fields.string_or_strings(key).into_iter();
    let wrong = |text: &str, what: &str, example: &str| {
        Wrong::new(format!("`{text}` is not {what}"), example.to_owned())
    };
    let ranges = all("range").filter_map(|at| {
        let net = at.value.parse::<IpNet>();
        let net = net.map_err(|_| wrong(&at.value, "a network", "range = \"10.77.0.0/16\""));
        document.accept(at.line, net.map(|net| net.trunc()))
    });
    let pools = all("pool").filter_map(|at| {
        let example = "pool = \"10.77.0.100-10.77.0.199\"";
        let pool = AddressRange::parse(&at.value);
        let pool = pool.ok_or_else(|| wrong(&at.value, "a range of addresses", example));
        document.accept(at.line, pool)
    });
    let reserved = all("reserved").filter_map(|at| {
        let address = at.value.parse();
        let address =
            address.map_err(|_| wrong(&at.value, "an address", "reserved = [\"10.77.0.1\"]"));
        document.accept(at.line, address)
    });
    CommonNetwork {
        ranges: ranges.collect(),
        pools: pools.collect(),
        reserved: reserved.collect(),
    }
}
