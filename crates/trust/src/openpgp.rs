//! Signatures of OpenPGP: whose they are, and whether their keys were valid (RFC 9580, sections
//! 5.2.3 and 10.1).

use std::io;
use std::time::{SystemTime, UNIX_EPOCH};

use pgp::composed::{Deserializable, DetachedSignature, SignedPublicKey, SignedPublicSubKey};
use pgp::packet::{RevocationCode, Signature, SignatureType};
use pgp::types::{KeyDetails, Tag};

use crate::{Content, Keys, Signed, Signer};

/// The most keys and signatures that are read from one file.
const MOST: usize = 200;

/// The keys in a file, armoured or not.
pub(crate) fn keys_in(bytes: &[u8]) -> Vec<SignedPublicKey> {
    let read = SignedPublicKey::from_reader_many(bytes);
    let keys = read.into_iter().flat_map(|(keys, _)| keys.take(MOST));
    keys.filter_map(Result::ok).collect()
}

pub(crate) fn verify(keys: &Keys, signature: &[u8], content: Content<'_>, now: u64) -> Signed {
    let read = DetachedSignature::from_reader_many(signature);
    let all: Vec<DetachedSignature> = match read {
        Ok((all, _)) => all.take(MOST).filter_map(Result::ok).collect(),
        Err(error) => {
            return Signed::Unreadable {
                why: error.to_string(),
            };
        }
    };
    let verdicts = all
        .iter()
        .map(|one| judge(keys, &one.signature, content, now));
    // One good signature is enough; a bad one says more than a foreign one.
    let best = verdicts.min_by_key(|verdict| match verdict {
        Signed::By(_) => 0,
        Signed::Altered(_) | Signed::Expired(_) | Signed::Revoked(_) => 1,
        _ => 2,
    });
    best.unwrap_or_else(|| Signed::Unreadable {
        why: "there is no signature in it".to_owned(),
    })
}

/// The key that made a signature: a primary one, or one of its subkeys.
enum Maker<'k> {
    Primary(&'k SignedPublicKey),
    Sub(&'k SignedPublicKey, &'k SignedPublicSubKey),
}

impl Maker<'_> {
    fn primary(&self) -> &SignedPublicKey {
        match self {
            Self::Primary(key) | Self::Sub(key, _) => key,
        }
    }

    fn verifies(&self, signature: &Signature, content: Content<'_>) -> io::Result<bool> {
        let content = content()?;
        Ok(match self {
            Self::Primary(key) => signature.verify(&key.primary_key, content).is_ok(),
            Self::Sub(_, sub) => signature.verify(&sub.key, content).is_ok(),
        })
    }

    fn signer(&self) -> Signer {
        let key = self.primary();
        let users = &key.details.users;
        let user = users
            .first()
            .map(|user| String::from_utf8_lossy(user.id.id()).into_owned());
        Signer {
            name: user.unwrap_or_default(),
            key: key.fingerprint().to_string().to_ascii_uppercase(),
        }
    }
}

fn judge(keys: &Keys, signature: &Signature, content: Content<'_>, now: u64) -> Signed {
    let is_of_content = matches!(
        signature.typ(),
        Some(SignatureType::Binary | SignatureType::Text)
    );
    if !is_of_content {
        return Signed::Unreadable {
            why: "it is no signature of a file".to_owned(),
        };
    }
    // There may be older and newer forms of a key: whoever has extended or revoked it is believed.
    let verdicts =
        makers_of(keys, signature).map(|maker| judge_by(&maker, signature, content, now));
    let best = verdicts.min_by_key(|verdict| match verdict {
        Signed::Revoked(_) => 0,
        Signed::By(_) => 1,
        Signed::Expired(_) => 2,
        _ => 3,
    });
    best.unwrap_or_else(|| {
        let key = signature
            .issuer_fingerprint()
            .first()
            .map(ToString::to_string);
        let id = signature.issuer_key_id().first().map(ToString::to_string);
        let key = key.or(id).unwrap_or_else(|| "unknown".to_owned());
        Signed::Foreign {
            key: key.to_ascii_uppercase(),
        }
    })
}

fn judge_by(maker: &Maker<'_>, signature: &Signature, content: Content<'_>, now: u64) -> Signed {
    let signer = maker.signer();
    match maker.verifies(signature, content) {
        Ok(true) => {}
        Ok(false) => return Signed::Altered(signer),
        Err(error) => {
            return Signed::Unreadable {
                why: error.to_string(),
            };
        }
    }
    let made = made(signature);
    if is_revoked(maker, made) {
        return Signed::Revoked(signer);
    }
    if has_expired(maker, signature, made, now) {
        return Signed::Expired(signer);
    }
    Signed::By(signer)
}

fn makers_of<'k>(keys: &'k Keys, signature: &Signature) -> impl Iterator<Item = Maker<'k>> {
    keys.openpgp.iter().filter_map(|key| {
        if is_by(signature, &key.primary_key) {
            return Some(Maker::Primary(key));
        }
        let mut subs = key.public_subkeys.iter();
        let sub = subs.find(|sub| is_by(signature, &sub.key) && may_sign(key, sub))?;
        Some(Maker::Sub(key, sub))
    })
}

fn is_by(signature: &Signature, key: &impl KeyDetails) -> bool {
    let fingerprints = signature.issuer_fingerprint();
    if !fingerprints.is_empty() {
        return fingerprints.contains(&&key.fingerprint());
    }
    signature.issuer_key_id().contains(&&key.legacy_key_id())
}

/// Whether a subkey belongs to the key, was meant for signing, and agrees to that itself.
fn may_sign(key: &SignedPublicKey, sub: &SignedPublicSubKey) -> bool {
    bindings(key, sub).any(|binding| {
        let own = binding.embedded_signature();
        let agrees = |own: &Signature| own.verify_primary_key_binding(&sub.key, &key.primary_key);
        binding.key_flags().sign() && own.is_some_and(|own| agrees(own).is_ok())
    })
}

/// The valid signatures that bind a subkey to its key.
fn bindings<'k>(
    key: &'k SignedPublicKey,
    sub: &'k SignedPublicSubKey,
) -> impl Iterator<Item = &'k Signature> {
    sub.signatures.iter().filter(|signature| {
        let binds = signature.typ() == Some(SignatureType::SubkeyBinding);
        binds
            && signature
                .verify_subkey_binding(&key.primary_key, &sub.key)
                .is_ok()
    })
}

fn made(signature: &Signature) -> u64 {
    signature.created().map_or(0, |time| seconds(time.into()))
}

fn seconds(time: SystemTime) -> u64 {
    time.duration_since(UNIX_EPOCH)
        .map_or(0, |since| since.as_secs())
}

/// A key that was given up for a better one is revoked from then on; any other one altogether.
fn is_revoked(maker: &Maker<'_>, made_at: u64) -> bool {
    let counts = |revocation: &Signature| {
        let is_soft = matches!(
            revocation.revocation_reason_code(),
            Some(RevocationCode::KeySuperseded | RevocationCode::KeyRetired)
        );
        !is_soft || made(revocation) <= made_at
    };
    let key = maker.primary();
    let mut of_key = key.details.revocation_signatures.iter();
    let own = |signature: &Signature| signature.verify_key(&key.primary_key).is_ok();
    if of_key.any(|revocation| own(revocation) && counts(revocation)) {
        return true;
    }
    let Maker::Sub(key, sub) = maker else {
        return false;
    };
    sub.signatures.iter().any(|revocation| {
        let revokes = revocation.typ() == Some(SignatureType::SubkeyRevocation);
        let verified = revocation.verify_subkey_binding(&key.primary_key, &sub.key);
        revokes && verified.is_ok() && counts(revocation)
    })
}

/// Whether the signature, or a key that stands behind it, is out of date. Publishers extend their
/// keys: who has the newest form of one sees that.
fn has_expired(maker: &Maker<'_>, signature: &Signature, made_at: u64, now: u64) -> bool {
    let lasts = |time: Option<pgp::types::Duration>| {
        let time: Option<std::time::Duration> = time.map(Into::into);
        time.map(|time| time.as_secs()).filter(|&time| time > 0)
    };
    let ends =
        |from: u64, time: Option<u64>| time.is_some_and(|time| from.saturating_add(time) <= now);
    if ends(made_at, lasts(signature.signature_expiration_time())) {
        return true;
    }
    let key = maker.primary();
    let created = seconds(key.primary_key.created_at().into());
    let newest = self_signatures(key).max_by_key(|signature| made(signature));
    if ends(
        created,
        lasts(newest.and_then(Signature::key_expiration_time)),
    ) {
        return true;
    }
    let Maker::Sub(key, sub) = maker else {
        return false;
    };
    let created = seconds(sub.key.created_at().into());
    let newest = bindings(key, sub).max_by_key(|signature| made(signature));
    ends(
        created,
        lasts(newest.and_then(Signature::key_expiration_time)),
    )
}

/// What the key says about itself, as far as that is verified.
fn self_signatures(key: &SignedPublicKey) -> impl Iterator<Item = &Signature> {
    let direct = key.details.direct_signatures.iter();
    let direct = direct.filter(|signature| signature.verify_key(&key.primary_key).is_ok());
    let users = key.details.users.iter().flat_map(|user| {
        user.signatures.iter().filter(|signature| {
            let verified = signature.verify_certification(&key.primary_key, Tag::UserId, &user.id);
            signature.is_certification() && verified.is_ok()
        })
    });
    direct.chain(users)
}
