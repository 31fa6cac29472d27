//! Signatures of minisign: Ed25519 over the content or its BLAKE2b digest, as lines of text.

use std::io::Read;

use base64::Engine;
use base64::engine::general_purpose::STANDARD;
use minisign_verify::{Error, PublicKey, Signature};

use crate::{Content, Keys, Signed, Signer};

/// The largest content that is signed in the old form, in bytes.
const MAX_LEGACY: u64 = 64 << 20;

/// The key in a file, with or without its comment.
pub(crate) fn key_in(bytes: &[u8]) -> Option<PublicKey> {
    let text = std::str::from_utf8(bytes).ok()?;
    PublicKey::decode(text)
        .or_else(|_| PublicKey::from_base64(text.trim()))
        .ok()
}

pub(crate) fn verify(keys: &Keys, text: &str, content: Content<'_>) -> Signed {
    let signature = match Signature::decode(text) {
        Ok(signature) => signature,
        Err(error) => {
            return Signed::Unreadable {
                why: error.to_string(),
            };
        }
    };
    let key = id_of(text);
    for (name, public) in &keys.minisign {
        let signer = Signer {
            name: name.clone(),
            key: key.clone(),
        };
        match verify_with(public, &signature, content) {
            Ok(Ok(())) => return Signed::By(signer),
            Ok(Err(Error::UnexpectedKeyId)) => {}
            Ok(Err(_)) => return Signed::Altered(signer),
            Err(error) => {
                return Signed::Unreadable {
                    why: error.to_string(),
                };
            }
        }
    }
    Signed::Foreign { key }
}

fn verify_with(
    public: &PublicKey,
    signature: &Signature,
    content: Content<'_>,
) -> std::io::Result<Result<(), Error>> {
    let mut stream = match public.verify_stream(signature) {
        Ok(stream) => stream,
        // An old form signs the content itself, which then has to be in memory.
        Err(Error::UnsupportedLegacyMode) => {
            let mut bytes = Vec::new();
            content()?.take(MAX_LEGACY).read_to_end(&mut bytes)?;
            return Ok(public.verify(&bytes, signature, true));
        }
        Err(error) => return Ok(Err(error)),
    };
    let mut content = content()?;
    let mut buffer = vec![0; 1 << 16];
    loop {
        match content.read(&mut buffer)? {
            0 => return Ok(stream.finalize()),
            read => stream.update(&buffer[..read]),
        }
    }
}

/// The identifier of the signature's key, as minisign writes it: the algorithm takes two bytes, the
/// identifier the next eight, the lowest first.
fn id_of(text: &str) -> String {
    let line = text.lines().nth(1).unwrap_or_default();
    let bytes = STANDARD.decode(line.trim()).unwrap_or_default();
    let id = bytes.get(2..10).and_then(|id| <[u8; 8]>::try_from(id).ok());
    id.map_or(String::new(), |id| {
        format!("{:016X}", u64::from_le_bytes(id))
    })
}
