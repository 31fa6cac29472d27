//! Signatures made by the programs of a Debian system.

#![allow(clippy::unwrap_used, reason = "a test that cannot go on fails")]

use std::io::{Cursor, Read};
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use pinewrit_trust::{Keys, Signed, verify};
use rstest::rstest;
use tempfile::TempDir;

const TEXT: &[u8] = b"0011  larkfell-os.img.zst\n";
/// In seconds since 1970: long after all that is signed here.
const NOW: u64 = 4_000_000_000;

/// A folder for keys that are made up for a test.
struct Desk(TempDir);

impl Desk {
    fn new() -> Self {
        let desk = Self(tempfile::tempdir().unwrap());
        std::fs::write(desk.path("SUMS"), TEXT).unwrap();
        desk
    }

    fn path(&self, name: &str) -> PathBuf {
        self.0.path().join(name)
    }

    fn gpg(&self, args: &[&str]) {
        let home = self.0.path().display().to_string();
        let mut command = Command::new("gpg");
        command.args([
            "--homedir",
            &home,
            "--batch",
            "--yes",
            "--pinentry-mode",
            "loopback",
        ]);
        command
            .args(["--passphrase", ""])
            .args(args)
            .current_dir(self.0.path());
        let done = command.stdin(Stdio::null()).output().unwrap();
        let told = String::from_utf8_lossy(&done.stderr);
        assert!(done.status.success(), "{args:?}: {told}");
    }

    fn make_key(&self, kind: &str, expires: &str) {
        self.gpg(&[
            "--quick-generate-key",
            "Larkfell <os@larkfell.example>",
            kind,
            "sign",
            expires,
        ]);
    }

    fn export(&self) -> Keys {
        self.gpg(&["--output", "key.gpg", "--export", "os@larkfell.example"]);
        Keys::in_file(&self.path("key.gpg")).unwrap()
    }

    fn fingerprint(&self) -> String {
        let listed = Command::new("gpg")
            .args([
                "--homedir",
                &self.0.path().display().to_string(),
                "--with-colons",
                "-K",
            ])
            .output()
            .unwrap();
        let listed = String::from_utf8(listed.stdout).unwrap();
        let line = listed.lines().find(|line| line.starts_with("fpr")).unwrap();
        line.trim_end_matches(':')
            .rsplit(':')
            .next()
            .unwrap()
            .to_owned()
    }

    fn judge(&self, keys: &Keys, signature: &str, content: &'static [u8], now: u64) -> Signed {
        let signature = std::fs::read(self.path(signature)).unwrap();
        let content = || Ok(Box::new(Cursor::new(content)) as Box<dyn Read>);
        verify(keys, &signature, &content, now)
    }
}

impl Drop for Desk {
    fn drop(&mut self) {
        // The agent that gpg has started would stay.
        let home = self.0.path().display().to_string();
        let mut command = Command::new("gpgconf");
        command
            .args(["--homedir", &home, "--kill", "all"])
            .stderr(Stdio::null());
        let _ = command.status();
    }
}

#[rstest]
#[case::ed25519("ed25519")]
#[case::rsa("rsa3072")]
#[case::ecdsa("nistp256")]
fn what_gpg_signs_is_told_apart(#[case] kind: &str) {
    pinewrit_judges::needs!["gpg"];
    let desk = Desk::new();
    desk.make_key(kind, "never");
    desk.gpg(&["--output", "SUMS.gpg", "--detach-sign", "SUMS"]);
    desk.gpg(&["--output", "SUMS.asc", "--armor", "--detach-sign", "SUMS"]);
    let keys = desk.export();
    for signature in ["SUMS.gpg", "SUMS.asc"] {
        let good = desk.judge(&keys, signature, TEXT, NOW);
        assert!(
            matches!(&good, Signed::By(by) if by.name.contains("Larkfell")),
            "{good:?}"
        );
        let altered = desk.judge(&keys, signature, b"0012  larkfell-os.img.zst\n", NOW);
        assert!(matches!(altered, Signed::Altered(_)), "{altered:?}");
        let foreign = desk.judge(&Keys::default(), signature, TEXT, NOW);
        assert!(matches!(foreign, Signed::Foreign { .. }), "{foreign:?}");
    }
    desk.gpg(&["--output", "key.asc", "--armor", "--export"]);
    assert!(!Keys::in_file(&desk.path("key.asc")).unwrap().is_empty());
    std::fs::write(desk.path("bad.sig"), b"nothing of the kind").unwrap();
    let bad = desk.judge(&keys, "bad.sig", TEXT, NOW);
    assert!(matches!(bad, Signed::Unreadable { .. }), "{bad:?}");
}

#[test]
fn a_subkey_signs_for_its_key() {
    pinewrit_judges::needs!["gpg"];
    let desk = Desk::new();
    desk.make_key("ed25519", "never");
    let key = desk.fingerprint();
    desk.gpg(&["--quick-add-key", &key, "rsa2048", "sign", "never"]);
    desk.gpg(&["--output", "SUMS.sig", "--detach-sign", "SUMS"]);
    let keys = desk.export();
    let good = desk.judge(&keys, "SUMS.sig", TEXT, NOW);
    assert!(matches!(&good, Signed::By(by) if by.key == key), "{good:?}");
}

#[test]
fn keys_that_are_not_valid_any_more_are_told_apart() {
    pinewrit_judges::needs!["gpg"];
    let desk = Desk::new();
    desk.make_key("ed25519", "2d");
    desk.gpg(&["--output", "SUMS.sig", "--detach-sign", "SUMS"]);
    let keys = desk.export();
    let since = std::time::SystemTime::now().duration_since(std::time::UNIX_EPOCH);
    let now = since.unwrap().as_secs();
    assert!(desk.judge(&keys, "SUMS.sig", TEXT, now).is_good());
    let later = desk.judge(&keys, "SUMS.sig", TEXT, now + 3 * 86_400);
    assert!(matches!(later, Signed::Expired(_)), "{later:?}");
    // The publisher extends it; who has both forms has the newer one.
    std::fs::create_dir(desk.path("keys")).unwrap();
    std::fs::copy(desk.path("key.gpg"), desk.path("keys/1.gpg")).unwrap();
    desk.gpg(&["--quick-set-expire", &desk.fingerprint(), "9d"]);
    desk.export();
    std::fs::copy(desk.path("key.gpg"), desk.path("keys/2.gpg")).unwrap();
    let both = Keys::in_folder(&desk.path("keys")).unwrap();
    let extended = desk.judge(&both, "SUMS.sig", TEXT, now + 3 * 86_400);
    assert!(extended.is_good(), "{extended:?}");
    let folder = desk.path("openpgp-revocs.d");
    let file = std::fs::read_dir(folder).unwrap().flatten().next().unwrap();
    // It is kept from being imported by accident.
    let text = std::fs::read_to_string(file.path()).unwrap();
    std::fs::write(
        desk.path("revoke"),
        text.replace(":-----BEGIN", "-----BEGIN"),
    )
    .unwrap();
    desk.gpg(&["--import", "revoke"]);
    let revoked = desk.judge(&desk.export(), "SUMS.sig", TEXT, now);
    assert!(matches!(revoked, Signed::Revoked(_)), "{revoked:?}");
    std::fs::copy(desk.path("key.gpg"), desk.path("keys/3.gpg")).unwrap();
    let all = Keys::in_folder(&desk.path("keys")).unwrap();
    let revoked = desk.judge(&all, "SUMS.sig", TEXT, now);
    assert!(matches!(revoked, Signed::Revoked(_)), "{revoked:?}");
}

fn minisign(folder: &Path, args: &[&str]) {
    let mut command = Command::new("minisign");
    let done = command
        .args(args)
        .current_dir(folder)
        .stdin(Stdio::null())
        .output()
        .unwrap();
    let told = String::from_utf8_lossy(&done.stderr);
    assert!(done.status.success(), "{args:?}: {told}");
}

#[rstest]
#[case::hashed(&[])]
#[case::old_form(&["-l"])]
fn what_minisign_signs_is_told_apart(#[case] form: &[&str]) {
    pinewrit_judges::needs!["minisign"];
    let desk = Desk::new();
    let folder = desk.0.path();
    for name in ["larkfell", "other"] {
        let (public, secret) = (format!("{name}.pub"), format!("{name}.key"));
        minisign(folder, &["-G", "-W", "-p", &public, "-s", &secret]);
    }
    minisign(
        folder,
        &[&["-S", "-s", "larkfell.key", "-m", "SUMS"], form].concat(),
    );
    let keys = Keys::in_file(&desk.path("larkfell.pub")).unwrap();
    let good = desk.judge(&keys, "SUMS.minisig", TEXT, NOW);
    assert!(
        matches!(&good, Signed::By(by) if by.name == "larkfell"),
        "{good:?}"
    );
    let altered = desk.judge(&keys, "SUMS.minisig", b"0012\n", NOW);
    assert!(matches!(altered, Signed::Altered(_)), "{altered:?}");
    let other = Keys::in_file(&desk.path("other.pub")).unwrap();
    let foreign = desk.judge(&other, "SUMS.minisig", TEXT, NOW);
    assert!(matches!(foreign, Signed::Foreign { .. }), "{foreign:?}");
    // In a folder they are found among other files.
    let both = Keys::in_folder(folder).unwrap();
    assert!(desk.judge(&both, "SUMS.minisig", TEXT, NOW).is_good());
}
