//! Signatures in words.

use pinewrit_image::Checksum;
use pinewrit_trust::{KeysError, Signed, Signer};

use super::error_chain;
use crate::text::printable;
use crate::{Exit, Message};

/// Keys that cannot be used.
pub fn keys_error(error: &KeysError) -> Message {
    let message = Message::new(Exit::Usage, error.to_string());
    match error {
        KeysError::Io { .. } => message.fact("system", error_chain(error)),
        _ => message.remedy("a public key: gpg --export, or the .pub file of minisign"),
    }
}

fn named(signer: &Signer) -> String {
    let key = &signer.key;
    match printable(&signer.name) {
        name if name.is_empty() => format!("key {key}"),
        name => format!("{name}, key {key}"),
    }
}

/// Who has signed it, in one line.
pub fn signed(file: &str, signed: &Signed) -> String {
    let file = printable(file);
    match signed {
        Signed::By(signer) => format!("by {} ({file})", named(signer)),
        Signed::Foreign { key } => {
            format!("by a key that you do not have, {} ({file})", printable(key))
        }
        Signed::Altered(signer) => format!("no: {file} of {} is of something else", named(signer)),
        Signed::Expired(signer) => format!("no: {} has expired ({file})", named(signer)),
        Signed::Revoked(signer) => format!("no: {} was revoked ({file})", named(signer)),
        Signed::Unreadable { why } => format!("no: {file} is no signature ({})", printable(why)),
    }
}

/// A signature that does not vouch for an image.
pub fn not_good(name: &str, (of, file): (&str, &str), signed: &Signed) -> Message {
    let what = match signed {
        Signed::Foreign { .. } => format!("{name} is not signed by a key that you have"),
        _ => format!("the signature of {of} is not good"),
    };
    let message = Message::new(Exit::Source, what).fact("image", name);
    let message = match signed {
        Signed::By(signer) | Signed::Altered(signer) => message
            .fact("signer", named(signer))
            .fact("found", format!("{of} was changed after it was signed"))
            .remedy("get the image, its checksums and the signature again, from the publisher"),
        Signed::Expired(signer) => message
            .fact("signer", named(signer))
            .fact("found", "the key or the signature has expired")
            .remedy("get the newest form of the key from the publisher, who may have extended it"),
        Signed::Revoked(signer) => message
            .fact("signer", named(signer))
            .fact("found", "the publisher has revoked the key")
            .remedy("get the publisher's new key, and an image that is signed with it"),
        Signed::Foreign { key } => message
            .fact("signer", format!("key {}", printable(key)))
            .remedy("put the publisher's key into ~/.config/pinewrit/keys/, if you trust it")
            .remedy("or name it: --signed-by KEY"),
        Signed::Unreadable { why } => message
            .fact(
                "found",
                format!("{} is no signature: {}", printable(file), printable(why)),
            )
            .remedy("get the signature again"),
    };
    message.fact("state", "nothing was written")
}

/// An image of which a catalogue and its publisher's signed list say different things.
pub fn contradiction(name: &str, listed: &Checksum, signed: &Checksum) -> Message {
    let what = format!("the shelf and the signed list have different files for {name}");
    Message::new(Exit::Source, what)
        .fact("shelf", super::shelf::short(&listed.to_string()))
        .fact("signed", super::shelf::short(&signed.to_string()))
        .fact("state", "nothing was written")
        .remedy("do not use the image; tell whoever keeps the catalogue")
}

/// An image without a signature, although one was demanded.
pub fn not_signed(name: &str) -> Message {
    let what = format!("{name} is not signed");
    Message::new(Exit::Source, what)
        .fact(
            "looked for",
            "IMAGE.minisig, .asc, .gpg, .sig; the same of SHA256SUMS and SHA512SUMS",
        )
        .fact("state", "nothing was written")
        .remedy("get the signature from the publisher, and put it beside the image")
}
