//! Independent programs that judge in tests. A test says once which it needs, by [`needs!`]; without one of
//! them it says so by name and ends, or fails where all are required (`PINEWRIT_REQUIRE_JUDGES=1`).

#![allow(
    clippy::print_stdout,
    reason = "a test that is skipped says so in the test's own output"
)]

mod images;
mod server;

use std::env;
use std::ffi::OsString;
use std::path::{Path, PathBuf};
use std::process::Command;

pub use images::{noise, sparse};
pub use server::Server;

/// Ends the test that it is in, unless all of these programs are there. What is not the name of a program
/// but a path is a file that has to be there.
///
/// With a value behind `else`, the function returns that.
#[macro_export]
macro_rules! needs {
    ($($name:expr),+ ; else $value:expr) => {
        if !$crate::are_there(&[$($name),+]) {
            return $value;
        }
    };
    ($($name:expr),+ $(,)?) => {
        $crate::needs!($($name),+ ; else ())
    };
}

/// Whether all of these are there; says of the first that is not.
pub fn are_there(names: &[&str]) -> bool {
    names.iter().all(|name| is_there(name) || skip(name))
}

/// Whether all the programs are there that a shell's script calls, of those that are known here. `sh` itself
/// and the core utilities are everywhere.
pub fn serve_script(script: &str) -> bool {
    let words = script.split(|c: char| !c.is_ascii_alphanumeric() && !"._+-/".contains(c));
    let mut programs = words.filter(|word| PROGRAMS.contains(word));
    programs.all(|name| is_there(name) || skip(name))
}

/// Programs that tests call by a shell.
const PROGRAMS: &[&str] = &[
    "7z",
    "blkid",
    "bzip2",
    "cpio",
    "debugfs",
    "dosfslabel",
    "dumpe2fs",
    "e2fsck",
    "fallocate",
    "find",
    "fsck.fat",
    "genisoimage",
    "getfattr",
    "gunzip",
    "gzip",
    "img2simg",
    "lbzip2",
    "losetup",
    "lz4",
    "lzip",
    "mattrib",
    "mcopy",
    "mdel",
    "mdir",
    "mkfs.ext4",
    "mkfs.fat",
    "mkfs.vfat",
    "mke2fs",
    "mkswap",
    "mlabel",
    "mmd",
    "mount",
    "mren",
    "mtype",
    "partx",
    "pbzip2",
    "pigz",
    "pzstd",
    "python3",
    "qemu-img",
    "resize2fs",
    "sed",
    "setfattr",
    "sfdisk",
    "tar",
    "tune2fs",
    "umount",
    "unzip",
    "xz",
    "zip",
    "zstd",
];

/// The folders where programs are looked for: the path, and where it is a usual one, the tools of
/// administrators, which not every user has on it.
pub fn path() -> OsString {
    let path = env::var_os("PATH").unwrap_or_default();
    let mut folders: Vec<PathBuf> = env::split_paths(&path).collect();
    folders.retain(|folder| !folder.as_os_str().is_empty());
    if folders.iter().any(|folder| folder == Path::new("/usr/bin")) {
        folders.extend(["/usr/sbin", "/sbin"].map(PathBuf::from));
    }
    env::join_paths(folders).unwrap_or(path)
}

/// Whether a program is on the path, or a file at its place.
pub fn is_there(name: &str) -> bool {
    name.contains('/') && Path::new(name).exists() || place(name).is_some()
}

fn place(name: &str) -> Option<PathBuf> {
    let folders: Vec<PathBuf> = env::split_paths(&path()).collect();
    let places = folders.into_iter().map(|folder| folder.join(name));
    places.into_iter().find(|place| place.is_file())
}

/// A program that is there, to be run.
pub fn command(name: &str) -> Command {
    let mut command = Command::new(place(name).unwrap_or_else(|| name.into()));
    command.env("PATH", path()).env("LC_ALL", "C");
    command
}

/// Runs a judge; `None`, and a word, where it is missing. Otherwise whether it ended well, and all that it
/// said.
pub fn judge(name: &str, args: &[&str]) -> Option<(bool, String)> {
    let is_there = match (name, args) {
        ("sh", [.., script]) => serve_script(script),
        _ => are_there(&[name]),
    };
    let output = is_there.then(|| command(name).args(args).output());
    let output = output?.unwrap_or_else(|error| panic!("{name}: {error}"));
    let text = String::from_utf8_lossy(&output.stdout).into_owned();
    let errors = String::from_utf8_lossy(&output.stderr);
    Some((output.status.success(), text + &errors))
}

/// Says that something is not tested because of what is missing; fails where nothing may be. Always `false`.
pub fn skip(missing: &str) -> bool {
    let required = env::var_os("PINEWRIT_REQUIRE_JUDGES").is_some_and(|value| value == "1");
    assert!(!required, "{missing} is missing, and judges are required");
    say_skipped(&format!("no {missing}"));
    false
}

/// Says that something cannot be tested on this computer, whatever is installed.
pub fn say_skipped(why: &str) {
    println!("skipped: {why}");
}
