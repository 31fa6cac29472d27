//! A PostgreSQL server for tests: a cluster of its own in a temporary folder, on the loopback interface.

use std::fs::{self, Permissions};
use std::io::Write;
use std::net::{TcpListener, TcpStream};
use std::os::unix::fs::{PermissionsExt, chown};
use std::os::unix::process::CommandExt;
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::sync::Mutex;
use std::sync::atomic::{AtomicU32, Ordering};
use std::thread;
use std::time::{Duration, Instant};

use crate::{are_there, place};

/// How long a server may take to start.
const PATIENCE: Duration = Duration::from_secs(60);
/// The user of the cluster, who needs no password.
const USER: &str = "pinewrit";

/// A running server. It ends with the test's process, whichever way that ends.
pub struct Server {
    folder: PathBuf,
    programs: PathBuf,
    port: u16,
    /// Who runs the server: it refuses to be run by root.
    owner: Option<(u32, u32)>,
    running: Mutex<Option<Child>>,
    databases: AtomicU32,
}

impl Server {
    /// Makes a cluster and starts its server; `None`, and a word, where there is none.
    pub fn start() -> Option<Self> {
        if !are_there(&["psql"]) {
            return None;
        }
        let programs = programs();
        let port = TcpListener::bind("127.0.0.1:0")
            .and_then(|listener| listener.local_addr())
            .expect("a free port");
        let folder = std::env::temp_dir().join(format!("pinewrit-cluster-{}", port.port()));
        let _ = fs::remove_dir_all(&folder);
        fs::create_dir(&folder).expect("a folder for the cluster");
        let owner = (uid() == 0).then(|| account("postgres"));
        if let Some((user, group)) = owner {
            chown(&folder, Some(user), Some(group)).expect("the cluster's owner");
        }
        let server = Self {
            folder,
            programs,
            port: port.port(),
            owner,
            running: Mutex::new(None),
            databases: AtomicU32::new(0),
        };
        let made = server
            .command("initdb")
            .args(["-D", "data", "-A", "trust", "-U", USER, "--no-sync"])
            .output()
            .expect("initdb");
        assert!(made.status.success(), "{made:?}");
        server.resume();
        Some(server)
    }

    /// Starts the server, if it does not run.
    pub fn resume(&self) {
        let mut running = self.running.lock().expect("one at a time");
        if running.is_some() {
            return;
        }
        // The shell ends when its input ends: with this process.
        let script = "\"$0\" \"$@\" > log 2>&1 < /dev/null & read -r word; kill -INT $!; wait; \
            [ \"$word\" = stay ] || rm -rf data log";
        let program = self.programs.join("postgres");
        let port = self.port.to_string();
        let child = self
            .command("sh")
            .args(["-c", script])
            .arg(program)
            .args(["-D", "data", "-p", &port, "-k", "", "-c"])
            .args(["listen_addresses=127.0.0.1", "-c", "fsync=off"])
            .stdin(Stdio::piped())
            .spawn()
            .expect("a server");
        *running = Some(child);
        let begun = Instant::now();
        while !self.answers() {
            assert!(begun.elapsed() < PATIENCE, "the server does not start");
            thread::sleep(Duration::from_millis(50));
        }
    }

    /// From the next start on it offers TLS, with this key and certificate (PEM).
    pub fn secure(&self, key: &str, certificate: &str) {
        let data = self.folder.join("data");
        for (name, text) in [("server.key", key), ("server.crt", certificate)] {
            let path = data.join(name);
            fs::write(&path, text).expect("the server's papers");
            fs::set_permissions(&path, Permissions::from_mode(0o600)).expect("kept private");
            if let Some((user, group)) = self.owner {
                chown(&path, Some(user), Some(group)).expect("the papers' owner");
            }
        }
        let path = data.join("postgresql.conf");
        let config = fs::read_to_string(&path).expect("its configuration");
        fs::write(&path, config + "\nssl = on\n").expect("its configuration");
        self.stop();
        self.resume();
    }

    /// Stops the server, as for a restart of its computer.
    pub fn stop(&self) {
        let child = self.running.lock().expect("one at a time").take();
        if let Some(mut child) = child {
            if let Some(mut input) = child.stdin.take() {
                let _ = input.write_all(b"stay\n");
            }
            let _ = child.wait();
        }
    }

    /// A new, empty database; its address.
    pub fn database(&self) -> String {
        let number = self.databases.fetch_add(1, Ordering::Relaxed);
        let name = format!("ledger{}_{number}", std::process::id());
        let port = self.port.to_string();
        let args = ["-h", "127.0.0.1", "-p", &port, "-U", USER, &name];
        let made = self.command("createdb").args(args).output();
        let made = made.expect("createdb");
        assert!(made.status.success(), "{made:?}");
        format!("postgres://{USER}@127.0.0.1:{port}/{name}")
    }

    /// The port on the loopback interface.
    pub fn port(&self) -> u16 {
        self.port
    }

    fn answers(&self) -> bool {
        let port = self.port.to_string();
        let ready = ["-q", "-h", "127.0.0.1", "-p", &port];
        TcpStream::connect(("127.0.0.1", self.port)).is_ok()
            && self
                .command("pg_isready")
                .args(ready)
                .status()
                .is_ok_and(|status| status.success())
    }

    fn command(&self, name: &str) -> Command {
        let own = self.programs.join(name);
        let program = if own.is_file() {
            own
        } else {
            PathBuf::from(name)
        };
        let mut command = Command::new(program);
        command.current_dir(&self.folder).env("LC_ALL", "C");
        if let Some((user, group)) = self.owner {
            command.uid(user).gid(group);
        }
        command
    }
}

impl Drop for Server {
    fn drop(&mut self) {
        if let Ok(mut running) = self.running.lock()
            && let Some(mut child) = running.take()
        {
            drop(child.stdin.take());
            let _ = child.wait();
        }
        let _ = fs::remove_dir_all(&self.folder);
    }
}

/// Where the server's programs are: Debian keeps those of each version apart.
fn programs() -> PathBuf {
    let versions = fs::read_dir("/usr/lib/postgresql").into_iter().flatten();
    let mut folders: Vec<PathBuf> = versions
        .flatten()
        .map(|entry| entry.path().join("bin"))
        .filter(|folder| folder.join("initdb").is_file())
        .collect();
    folders.sort();
    let beside = || place("psql").and_then(|psql| psql.parent().map(Path::to_owned));
    folders.pop().or_else(beside).unwrap_or_default()
}

fn uid() -> u32 {
    use std::os::unix::fs::MetadataExt;
    fs::metadata("/proc/self").map_or(1, |metadata| metadata.uid())
}

/// The numbers of an account and its group.
fn account(name: &str) -> (u32, u32) {
    let accounts = fs::read_to_string("/etc/passwd").unwrap_or_default();
    let line = accounts
        .lines()
        .find(|line| line.split(':').next() == Some(name));
    let mut fields = line.unwrap_or_default().split(':').skip(2);
    let mut number = || fields.next().and_then(|text| text.parse().ok());
    match (number(), number()) {
        (Some(user), Some(group)) => (user, group),
        _ => panic!("there is no user {name} to run the server"),
    }
}
