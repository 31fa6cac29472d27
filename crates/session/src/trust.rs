//! Who has signed an image, by the keys that the user trusts.

use std::collections::HashSet;
use std::fs::File;
use std::io::{self, Cursor, Read};
use std::path::Path;

use pinewrit_image::{ChecksumOrigin, ExpectedChecksum, ImageSource};
use pinewrit_trust::{ENDINGS, Keys, Signed, verify};
use pinewrit_ui::{Message, words};
use schemars::JsonSchema;
use serde::Serialize;

use crate::clock;
use crate::source::Named;
use crate::workshop::config_folder;

/// Lists of checksums that publishers sign.
const LISTS: [&str; 2] = ["SHA256SUMS", "SHA512SUMS"];

/// A signature that was found beside an image.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, JsonSchema)]
pub struct FoundSignature {
    /// The file with the signature.
    pub file: String,
    /// What it signs: the image, or a list with the image's checksum.
    pub of: String,
    /// Whose it is, and whether it is good.
    #[serde(flatten)]
    pub signed: Signed,
}

/// The keys in a file, or else all that the user has put into the configuration.
pub fn keys(signed_by: Option<&Path>) -> Result<Keys, Message> {
    let keys = match (signed_by, config_folder()) {
        (Some(file), _) => Keys::in_file(file),
        (None, Some(folder)) => Keys::in_folder(&folder.join("keys")),
        (None, None) => Ok(Keys::default()),
    };
    keys.map_err(|e| words::trust::keys_error(&e))
}

/// Looks for a signature, of a list with the image's checksum or of the image itself. What a signed
/// list says takes the place of `checksum`: it must be that of the very text that was signed.
/// Without keys, nothing is looked for.
pub fn find(
    source: &ImageSource,
    checksum: &mut Option<ExpectedChecksum>,
    keys: &Keys,
) -> Option<FoundSignature> {
    if keys.is_empty() {
        return None;
    }
    let own = checksum.as_ref().and_then(|sum| match &sum.origin {
        ChecksumOrigin::File(path) => Some(path.file_name()?.to_string_lossy().into_owned()),
        _ => None,
    });
    let is_given = checksum
        .as_ref()
        .is_some_and(|sum| matches!(sum.origin, ChecksumOrigin::Argument));
    let lists = own.into_iter().chain(LISTS.map(str::to_owned));
    let mut lists: Vec<String> = lists.filter(|_| !is_given).collect();
    let mut known = HashSet::new();
    lists.retain(|list| known.insert(list.clone()));
    let mut foreign = None;
    for list in lists {
        match of_list(source, &list, keys) {
            Some((found, expected)) if found.signed.is_good() => {
                *checksum = Some(expected);
                return Some(found);
            }
            Some((found, _)) if found.signed.is_bad() => return Some(found),
            Some((found, _)) => drop(foreign.get_or_insert(found)),
            None => {}
        }
    }
    match of_image(source, keys) {
        Some(found) if found.signed.is_good() || found.signed.is_bad() => Some(found),
        found => foreign.or(found),
    }
}

/// The signature of a text, whose files beside it `beside` reads by their endings.
pub fn of_text(
    name: &str,
    text: &[u8],
    beside: &dyn Fn(&str) -> Option<Vec<u8>>,
    keys: &Keys,
) -> Option<FoundSignature> {
    if keys.is_empty() {
        return None;
    }
    let mut found = ENDINGS.iter().filter_map(|ending| {
        let signature = beside(ending)?;
        let content = || Ok(Box::new(Cursor::new(text.to_vec())) as Box<dyn Read>);
        Some(FoundSignature {
            file: format!("{name}.{ending}"),
            of: name.to_owned(),
            signed: verify(keys, &signature, &content, now()),
        })
    });
    found.next()
}

/// What an image must be, and who says so.
#[derive(Default)]
pub struct Vouched {
    /// The checksum that it must have.
    pub checksum: Option<ExpectedChecksum>,
    /// The signature that was found beside it.
    pub signature: Option<FoundSignature>,
}

/// The checksum that an image must have: as given, of the shelf, or found beside it; and its
/// signature, which must be good if `key` or the shelf demands one.
pub fn vouched(named: &Named, given: Option<&str>, key: Option<&Path>) -> Result<Vouched, Message> {
    let mut checksum = named.checksum(given)?;
    let of_shelf = checksum
        .clone()
        .filter(|sum| matches!(sum.origin, ChecksumOrigin::Shelf(_)));
    let name = named.source.name();
    let signature = find(&named.source, &mut checksum, &keys(key)?);
    let must_be_signed = named.listed.as_ref().is_some_and(|one| one.must_be_signed);
    must_be_good(signature.as_ref(), &name, key.is_some() || must_be_signed)?;
    if let (Some(listed), Some(signed)) = (of_shelf, &checksum) {
        let (listed, signed) = (&listed.checksum, &signed.checksum);
        if listed.kind == signed.kind && listed.digest != signed.digest {
            return Err(words::trust::contradiction(&name, listed, signed));
        }
    }
    Ok(Vouched {
        checksum,
        signature,
    })
}

fn of_list(
    source: &ImageSource,
    list: &str,
    keys: &Keys,
) -> Option<(FoundSignature, ExpectedChecksum)> {
    let (file, signature) = beside(source, list)?;
    let text = source.small_file_beside(list)?;
    let expected = ExpectedChecksum::in_list(std::str::from_utf8(&text).ok()?, source, list)?;
    let content = || Ok(Box::new(Cursor::new(text.clone())) as Box<dyn Read>);
    let found = FoundSignature {
        file,
        of: list.to_owned(),
        signed: verify(keys, &signature, &content, now()),
    };
    Some((found, expected))
}

/// Of an image here: on a server it would have to be fetched twice.
fn of_image(source: &ImageSource, keys: &Keys) -> Option<FoundSignature> {
    let path = source.location().path().filter(|path| path.is_file())?;
    let name = source.name();
    let (file, signature) = beside(source, &name)?;
    let content = || -> io::Result<Box<dyn Read>> { Ok(Box::new(File::open(path)?)) };
    Some(FoundSignature {
        file,
        of: name,
        signed: verify(keys, &signature, &content, now()),
    })
}

fn beside(source: &ImageSource, of: &str) -> Option<(String, Vec<u8>)> {
    let mut names = ENDINGS.iter().map(|ending| format!("{of}.{ending}"));
    names.find_map(|name| {
        let bytes = source.small_file_beside(&name)?;
        Some((name, bytes))
    })
}

fn now() -> u64 {
    u64::try_from(clock::seconds()).unwrap_or(0)
}

/// Refuses what a signature speaks against; if a key was named, also what it has not signed.
pub fn must_be_good(
    found: Option<&FoundSignature>,
    name: &str,
    is_demanded: bool,
) -> Result<(), Message> {
    let signed = found.map(|found| &found.signed);
    match signed {
        Some(Signed::By(_)) => Ok(()),
        Some(signed) if signed.is_bad() || is_demanded => {
            let found = found.map(|found| (found.of.as_str(), found.file.as_str()));
            let (of, file) = found.unwrap_or((name, ""));
            Err(words::trust::not_good(name, (of, file), signed))
        }
        None if is_demanded => Err(words::trust::not_signed(name)),
        _ => Ok(()),
    }
}
