//! A folder to work in, the built program, and the judges that read what it made.

#![allow(dead_code, reason = "not every test uses all of it")]
#![allow(
    clippy::print_stdout,
    reason = "a test that is skipped says so in the test's own output"
)]

#[cfg(test)]
pub(crate) mod secured;
pub(crate) mod server;

use std::fs;
use std::path::{Path, PathBuf};
use std::process::{Command, Output};

use serde_json::Value;

/// The description of all lines of `--json`.
static LINES: std::sync::LazyLock<jsonschema::Validator> =
    std::sync::LazyLock::new(|| jsonschema::validator_for(&description()).unwrap());

/// The schema in `docs`.
pub(crate) fn description() -> Value {
    let path = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../docs/events.schema.json");
    serde_json::from_slice(&fs::read(path).unwrap()).unwrap()
}

pub(crate) const PROGRAM: &str = env!("CARGO_BIN_EXE_pinewrit");

/// A file of the demo's folder.
pub(crate) fn demo(name: &str) -> PathBuf {
    let folder = Path::new(env!("CARGO_MANIFEST_DIR")).join("../../demo");
    folder.join(name)
}

/// A temporary folder; everything runs in it.
pub(crate) struct Bench {
    dir: tempfile::TempDir,
}

/// What a run of the program came to.
pub(crate) struct Run {
    pub(crate) code: i32,
    pub(crate) stdout: String,
    pub(crate) stderr: String,
}

impl Bench {
    pub(crate) fn new() -> Self {
        Self {
            dir: tempfile::tempdir().unwrap(),
        }
    }

    pub(crate) fn path(&self, name: &str) -> PathBuf {
        self.dir.path().join(name)
    }

    pub(crate) fn folder(&self) -> &Path {
        self.dir.path()
    }

    pub(crate) fn write(&self, name: &str, bytes: impl AsRef<[u8]>) -> PathBuf {
        let path = self.path(name);
        fs::write(&path, bytes).unwrap();
        path
    }

    pub(crate) fn read(&self, name: &str) -> Vec<u8> {
        fs::read(self.path(name)).unwrap()
    }

    /// Builds the demo's medium of 150 MiB as `hut.img`.
    pub(crate) fn with_hut() -> Self {
        let bench = Self::new();
        let layout = demo("layout.toml");
        let build = ["build", layout.to_str().unwrap(), "--to", "hut.img"];
        bench
            .run(&[&build[..], &["--size", "150MiB"]].concat())
            .expect(0);
        bench
    }

    /// The program in this folder, with an environment of its own.
    pub(crate) fn command(&self, args: &[&str]) -> Command {
        let mut command = self.program(PROGRAM);
        command.args(args);
        command
    }

    /// Any program, in this folder and with that environment.
    pub(crate) fn program(&self, name: &str) -> Command {
        let mut command = Command::new(name);
        command
            .current_dir(self.folder())
            .env("XDG_STATE_HOME", self.path("state"))
            .env("XDG_CACHE_HOME", self.path("cache"))
            .env("XDG_CONFIG_HOME", self.path("config"))
            .env_remove("http_proxy")
            .env_remove("HTTP_PROXY")
            .env_remove("ALL_PROXY")
            .env_remove("all_proxy")
            .env_remove("NO_COLOR")
            .env_remove("SSH_AUTH_SOCK")
            .stdin(std::process::Stdio::null());
        command
    }

    /// Runs the program; with `--json`, every line that it prints must fit the description of all.
    pub(crate) fn run(&self, args: &[&str]) -> Run {
        let run = Run::from(self.command(args).output().unwrap());
        match args.contains(&"--json") {
            true => run.described(),
            false => run,
        }
    }

    /// Runs a judge in this folder; its output, whatever its exit code.
    pub(crate) fn judge(&self, name: &str, args: &[&str]) -> Option<Run> {
        let is_there = match (name, args) {
            ("sh", [.., script]) => pinewrit_judges::serve_script(script),
            _ => has(name),
        };
        if !is_there {
            return None;
        }
        let output = pinewrit_judges::command(name)
            .args(args)
            .current_dir(self.folder())
            .output()
            .unwrap();
        Some(Run::from(output))
    }
}

impl From<Output> for Run {
    fn from(output: Output) -> Self {
        let text = |bytes: Vec<u8>| String::from_utf8_lossy(&bytes).into_owned();
        Self {
            code: output.status.code().unwrap_or(-1),
            stdout: text(output.stdout),
            stderr: text(output.stderr),
        }
    }
}

impl Run {
    /// The run ended with this code; otherwise shows what it said.
    #[track_caller]
    pub(crate) fn expect(self, code: i32) -> Self {
        assert_eq!(
            self.code, code,
            "stdout:\n{}\nstderr:\n{}",
            self.stdout, self.stderr
        );
        self
    }

    /// Standard error holds each of these.
    #[track_caller]
    pub(crate) fn says(self, parts: &[&str]) -> Self {
        for part in parts {
            assert!(
                self.stderr.contains(part),
                "no {part:?} in:\n{}",
                self.stderr
            );
        }
        self
    }

    /// Checks that the result names all of these.
    #[track_caller]
    pub(crate) fn shows(self, parts: &[&str]) -> Self {
        for part in parts {
            assert!(
                self.stdout.contains(part),
                "no {part:?} in:\n{}",
                self.stdout
            );
        }
        self
    }

    /// Every line fits the description.
    #[track_caller]
    pub(crate) fn described(self) -> Self {
        for line in self.stdout.lines() {
            let value: Value = serde_json::from_str(line).unwrap();
            if !LINES.is_valid(&value) {
                let (event, command) = (&value["event"], &value["command"]);
                panic!("not described in docs/events.schema.json: {event} of {command}: {line}");
            }
        }
        self
    }

    /// The result, the last of the JSON lines on stdout. Every line must be an object.
    #[track_caller]
    pub(crate) fn json(&self) -> Value {
        let lines: Vec<Value> = self
            .stdout
            .lines()
            .map(|line| serde_json::from_str(line).unwrap())
            .collect();
        assert!(lines.iter().all(|line| line["event"].is_string()));
        lines.last().cloned().unwrap()
    }
}

/// Whether a TOML text fits the schema for editors of this name.
pub(crate) fn fits_schema(name: &str, text: &str) -> bool {
    let path = demo(&format!("../schemas/{name}.schema.json"));
    let schema: Value = serde_json::from_slice(&fs::read(path).unwrap()).unwrap();
    let content: toml::Table = toml::from_str(text).unwrap();
    let content = serde_json::to_value(content).unwrap();
    jsonschema::validator_for(&schema)
        .unwrap()
        .is_valid(&content)
}

/// What the schema for editors accepts must be what the program accepts: a text with all keys, and not
/// that text with one thing wrong.
#[track_caller]
pub(crate) fn agree_with_schema(
    name: &str,
    all_keys: &str,
    wrong: &[(&str, &str)],
    is_accepted: impl Fn(&str) -> bool,
) {
    assert!(is_accepted(all_keys) && fits_schema(name, all_keys));
    for (from, to) in wrong {
        let text = all_keys.replacen(from, to, 1);
        assert_ne!(text, all_keys, "{from}");
        let accepted = (is_accepted(&text), fits_schema(name, &text));
        assert_eq!(
            accepted,
            (false, false),
            "{to:?} for {from:?}: program, schema"
        );
    }
}

/// Whether a program is there. In CI a missing one is a failure, elsewhere the test is skipped.
pub(crate) fn has(name: &str) -> bool {
    pinewrit_judges::are_there(&[name])
}

/// Whether a file of a Debian package is there.
pub(crate) fn has_file(path: &str) -> bool {
    pinewrit_judges::are_there(&[path])
}

fn skip(name: &str) -> bool {
    pinewrit_judges::skip(name)
}

/// The word that a skipped test says.
pub(crate) fn say_skipped(missing: &str) {
    pinewrit_judges::say_skipped(&format!("no {missing}"));
}

/// A loop device over a file, detached at the end.
pub(crate) struct Loop {
    pub(crate) path: String,
}

impl Loop {
    /// `None`, and a word, where loop devices cannot be made.
    pub(crate) fn over(file: &Path, options: &[&str]) -> Option<Self> {
        if !has("losetup") {
            return None;
        }
        let output = pinewrit_judges::command("losetup")
            .args(["--find", "--show"])
            .args(options)
            .arg(file)
            .output()
            .unwrap();
        if !output.status.success() {
            skip("loop devices (root is needed)");
            return None;
        }
        let path = String::from_utf8(output.stdout).unwrap().trim().to_owned();
        Some(Self { path })
    }
}

impl Drop for Loop {
    fn drop(&mut self) {
        let _ = pinewrit_judges::command("losetup")
            .args(["-d", &self.path])
            .status();
    }
}

/// A small image: an MBR, a FAT partition from 1 to 9 MiB, noise up to 14 MiB.
pub(crate) fn small_image() -> Vec<u8> {
    static IMAGE: std::sync::LazyLock<Vec<u8>> = std::sync::LazyLock::new(make_small_image);
    IMAGE.clone()
}

fn make_small_image() -> Vec<u8> {
    use pinewrit_disk::{BlockDevice, ByteRange, MemoryDevice, Window};
    const MIB: u64 = 1 << 20;
    let device = MemoryDevice::new(14 * MIB as usize);
    let mut sector = [0u8; 512];
    let entries: [[u8; 16]; 2] = [entry(0x80, 0x0c, 2048, 16384), entry(0, 0x83, 18432, 10240)];
    sector[0x1be..0x1de].copy_from_slice(&entries.concat());
    sector[0x1fe..].copy_from_slice(&[0x55, 0xaa]);
    device.write_at(0, &sector).unwrap();
    let range = ByteRange {
        start: MIB,
        end: 9 * MIB,
    };
    let options = pinewrit_fat::MakeOptions {
        label: "HUT BOOT".to_owned(),
        id: [1, 2, 3, 4],
        start: MIB,
        made: pinewrit_fat::Stamp::default(),
    };
    let plan = pinewrit_fat::MakePlan::of(pinewrit_fat::MakeKind::Fat16, 8 * MIB, 512, None);
    let window = Window::new(&device, range);
    plan.unwrap().make(&window, &options).unwrap();
    device
        .write_at(9 * MIB, &pinewrit_judges::noise(5 * MIB as usize, 1))
        .unwrap();
    device.to_bytes()
}

fn entry(status: u8, kind: u8, first: u32, sectors: u32) -> [u8; 16] {
    let mut raw = [0; 16];
    raw[0] = status;
    raw[4] = kind;
    raw[8..12].copy_from_slice(&first.to_le_bytes());
    raw[12..].copy_from_slice(&sectors.to_le_bytes());
    raw
}

/// Packs with the crate, for tests that are not about packing.
pub(crate) fn zstd(bytes: &[u8]) -> Vec<u8> {
    zstd::bulk::compress(bytes, 1).unwrap()
}

/// Whether the first chunk of a medium is cleared.
pub(crate) fn has_no_table(bytes: &[u8]) -> bool {
    bytes[..bytes.len().min(4 << 20)].iter().all(|&b| b == 0)
}
