//! The system's SSH client (ssh(1), ssh_config(5)).

use std::fs;
use std::io::{Read, Write};
use std::process::{Command, Stdio};
use std::time::Instant;

use pinewrit_core::Cancel;

use super::{CLIENT, LOOK, Login, Session, SshError, WORK, key_of};
use crate::commission::MOST;

/// The name under which the recorded host key is looked up.
const ALIAS: &str = "pinewrit-unit";

pub(super) enum Failure {
    /// It is not installed.
    NoClient,
    Ssh(SshError),
}

impl From<SshError> for Failure {
    fn from(error: SshError) -> Self {
        Self::Ssh(error)
    }
}

pub(super) fn run(login: &Login, script: &str, cancel: &Cancel) -> Result<Session, Failure> {
    let folder = tempfile::tempdir().map_err(|error| other(login, error.to_string()))?;
    let mut command = Command::new(CLIENT);
    // Its messages are understood in English only.
    command.env("LC_ALL", "C");
    for option in options(login) {
        command.args(["-o", &option]);
    }
    if let Some(key) = login.known_hosts.as_deref().and_then(key_of) {
        let known = folder.path().join("known_hosts");
        let written = fs::write(&known, format!("{ALIAS} {key}\n"));
        written.map_err(|error| other(login, error.to_string()))?;
        command.args(["-o", &format!("UserKnownHostsFile=\"{}\"", known.display())]);
        command.args(["-o", &format!("HostKeyAlias={ALIAS}")]);
        command.args([
            "-o",
            "GlobalKnownHostsFile=/dev/null",
            "-o",
            "VerifyHostKeyDNS=no",
        ]);
    }
    if let Some(key) = &login.key {
        command
            .arg("-i")
            .arg(key)
            .args(["-o", "IdentitiesOnly=yes"]);
    }
    command.args(["--", &login.host, "sh -s"]);
    command
        .stdin(Stdio::piped())
        .stdout(Stdio::piped())
        .stderr(Stdio::piped());
    let mut client = command.spawn().map_err(|error| match error.kind() {
        std::io::ErrorKind::NotFound => Failure::NoClient,
        _ => other(login, error.to_string()).into(),
    })?;
    let mut input = client.stdin.take();
    let (output, said) = std::thread::scope(|scope| {
        let output = client.stdout.take().map(|out| scope.spawn(|| bounded(out)));
        let said = client.stderr.take().map(|out| scope.spawn(|| bounded(out)));
        if let Some(input) = &mut input {
            // A client that has ended says why itself.
            let _ = input.write_all(script.as_bytes());
        }
        drop(input.take());
        let end = Instant::now() + login.patience + WORK;
        while matches!(client.try_wait(), Ok(None)) {
            if Instant::now() > end || cancel.is_cancelled() {
                // It has ended by itself, then.
                let _ = client.kill();
            }
            std::thread::sleep(LOOK);
        }
        let joined = |thread: Option<std::thread::ScopedJoinHandle<'_, String>>| {
            thread
                .and_then(|thread| thread.join().ok())
                .unwrap_or_default()
        };
        (joined(output), joined(said))
    });
    let status = client
        .wait()
        .map_err(|error| other(login, error.to_string()))?;
    let told = Told::read(&said);
    if status.success() {
        return Ok(Session {
            output,
            host_key: told.host_key,
            methods: told.methods,
        });
    }
    Err(why(login, &said, told).into())
}

fn other(login: &Login, why: String) -> SshError {
    SshError::Other {
        host: login.host.clone(),
        why,
    }
}

fn options(login: &Login) -> Vec<String> {
    let mut all = [
        "BatchMode=yes",
        "LogLevel=DEBUG1",
        "ClearAllForwardings=yes",
        "ControlPath=none",
        "ForwardAgent=no",
        "ForwardX11=no",
        "PermitLocalCommand=no",
        "RemoteCommand=none",
        "RequestTTY=no",
        "StrictHostKeyChecking=yes",
        "UpdateHostKeys=no",
    ]
    .map(str::to_owned)
    .to_vec();
    all.push(format!(
        "ConnectTimeout={}",
        login.patience.as_secs().max(1)
    ));
    all.extend(login.address.map(|address| format!("HostName={address}")));
    all.extend(login.port.map(|port| format!("Port={port}")));
    all.extend(login.user.as_ref().map(|user| format!("User={user}")));
    all
}

/// Reads to the end, and keeps a bounded part.
fn bounded(mut from: impl Read) -> String {
    let mut kept = Vec::new();
    let mut buffer = [0; 8192];
    while let Ok(read @ 1..) = from.read(&mut buffer) {
        let room = MOST.saturating_sub(kept.len()).min(read);
        kept.extend(&buffer[..room]);
    }
    String::from_utf8_lossy(&kept).into_owned()
}

/// What the client tells of the connection.
#[derive(Debug, Default, PartialEq, Eq)]
struct Told {
    host_key: Option<String>,
    methods: Vec<String>,
}

impl Told {
    fn read(said: &str) -> Self {
        let mut told = Self::default();
        for line in said.lines().map(str::trim) {
            if let Some(key) = line.strip_prefix("debug1: Server host key: ") {
                // That of a jump host comes first.
                told.host_key = key.split_whitespace().nth(1).map(str::to_owned);
                told.methods.clear();
            } else if let Some(methods) =
                line.strip_prefix("debug1: Authentications that can continue: ")
                && told.methods.is_empty()
            {
                told.methods = methods.split(',').map(str::to_owned).collect();
            }
        }
        told
    }
}

fn why(login: &Login, said: &str, told: Told) -> SshError {
    let host = login.host.clone();
    let lines = said.lines().map(str::trim);
    let lines: Vec<&str> = lines
        .filter(|line| {
            !line.is_empty() && !line.starts_with("debug1:") && !line.starts_with("OpenSSH_")
        })
        .collect();
    let has = |text: &str| lines.iter().any(|line| line.contains(text));
    let last = lines
        .last()
        .copied()
        .unwrap_or("it ended without a word")
        .to_owned();
    if has("Host key verification failed") {
        return match login.wanted() {
            Some(wanted) => SshError::OtherHostKey {
                host,
                wanted,
                found: told.host_key,
            },
            None => SshError::HostKeyUnknown {
                host,
                found: told.host_key,
            },
        };
    }
    if has("Permission denied") {
        let user = login
            .user
            .clone()
            .unwrap_or_else(|| "the configured user".to_owned());
        return SshError::Refused {
            host,
            user,
            methods: told.methods,
        };
    }
    if has("Could not resolve hostname") {
        return SshError::NoName { host };
    }
    let silent = [
        "Connection refused",
        "timed out",
        "No route to host",
        "unreachable",
        "Connection reset",
        "kex_exchange_identification",
        "Connection closed",
    ];
    if let Some(words) = silent.into_iter().find(|words| has(words)) {
        let line = lines.iter().find(|line| line.contains(words));
        let why = line.map_or(words, |line| line.rsplit(": ").next().unwrap_or(line));
        return SshError::NoAnswer {
            host,
            why: why.to_owned(),
        };
    }
    other(login, last)
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    const SAID: &str = "OpenSSH_9.2p1\r
debug1: Server host key: ssh-ed25519 SHA256:ofTheJumpHost
debug1: Authentications that can continue: publickey,password
debug1: Server host key: ssh-ed25519 SHA256:ofTheBoard
debug1: Authentications that can continue: publickey
";

    #[test]
    fn what_the_client_tells() {
        let told = Told::read(SAID);
        assert_eq!(told.host_key.as_deref(), Some("SHA256:ofTheBoard"));
        assert_eq!(told.methods, ["publickey"]);
    }

    #[rstest]
    #[case(
        "Host key verification failed.",
        "the host key of larkfell-03 is not known"
    )]
    #[case(
        "a@b: Permission denied (publickey).",
        "larkfell-03 lets nobody in as warden"
    )]
    #[case(
        "ssh: Could not resolve hostname larkfell-03: Name or service not known",
        "larkfell-03 has no address"
    )]
    #[case(
        "ssh: connect to host 10.77.3.10 port 22: No route to host",
        "larkfell-03 does not answer: No route to host"
    )]
    #[case(
        "Bad configuration",
        "the login on larkfell-03 failed: Bad configuration"
    )]
    fn why_it_failed(#[case] said: &str, #[case] expected: &str) {
        let login = Login {
            user: Some("warden".to_owned()),
            ..Login::new("larkfell-03")
        };
        assert_eq!(why(&login, said, Told::default()).to_string(), expected);
    }
}
