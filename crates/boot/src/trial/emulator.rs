//! The emulator's process.

use std::fs::File;
use std::io;
use std::net::{Ipv4Addr, TcpListener};
use std::path::{Path, PathBuf};
use std::process::{Child, Command, Stdio};
use std::time::{Duration, Instant};

use super::machine::{Start, escaped};
use super::qcow2;
use super::run::{TrialError, TrialRequest};

/// A port that nobody has; somebody may take it before the emulator does, which then says so.
pub(super) fn free_port() -> io::Result<u16> {
    Ok(TcpListener::bind((Ipv4Addr::LOCALHOST, 0))?
        .local_addr()?
        .port())
}

const OVERLAY: &str = "medium.qcow2";
const VARIABLES: &str = "variables.fd";
/// How long it takes to close its files.
const CLOSING: Duration = Duration::from_secs(20);

/// The emulator; it ends when dropped.
pub(super) struct Emulator {
    process: Child,
    said: PathBuf,
}

impl Emulator {
    /// Makes what stays from one start to the next: the medium's overlay, and the firmware's variables.
    pub(super) fn prepare(request: &TrialRequest<'_>, folder: &Path) -> io::Result<()> {
        let medium = std::path::absolute(request.medium)?;
        let (view, changed) = &request.over;
        qcow2::create(&folder.join(OVERLAY), &medium, request.size, *view, changed)?;
        if let Some((_, sample)) = &request.machine.firmware {
            std::fs::copy(sample, folder.join(VARIABLES))?;
        }
        Ok(())
    }

    pub(super) fn start(
        request: &TrialRequest<'_>,
        folder: &Path,
        port: u16,
    ) -> Result<Self, TrialError> {
        let (machine, files) = (&request.machine, TrialError::Files);
        let said = folder.join("said");
        let log = File::create(&said).map_err(files)?;
        let mut command = Command::new(machine.program);
        command.args(machine.arguments(&folder.join(VARIABLES), request.picture.is_some()));
        if let (Start::Kernel, Some((kernel, initrd, options))) = (&machine.start, &request.kernel)
        {
            command.arg("-kernel").arg(kernel);
            if let Some(initrd) = initrd {
                command.arg("-initrd").arg(initrd);
            }
            command.arg("-append").arg(options);
        }
        let hardware = request
            .network
            .hardware
            .as_deref()
            .unwrap_or(super::HARDWARE);
        let socket = |name: &str| escaped(&folder.join(name));
        command
            .arg("-drive")
            .arg(format!(
                "if=none,id=medium,format=qcow2,discard=unmap,cache=unsafe,file={}",
                escaped(&folder.join(OVERLAY))
            ))
            .args(["-netdev", &request.network.option(port, request.ssh_port)])
            .args([
                "-device",
                &format!("virtio-net-pci,netdev=net,mac={hardware},romfile="),
            ])
            .args([
                "-chardev",
                &format!(
                    "socket,id=console,server=on,wait=off,path={}",
                    socket("console")
                ),
            ])
            .args(["-serial", "chardev:console"])
            .args([
                "-qmp",
                &format!("unix:{},server=on,wait=off", socket("monitor")),
            ])
            .args(["-no-shutdown", "-S"])
            .stdin(Stdio::null())
            .stdout(log.try_clone().map_err(files)?)
            .stderr(log);
        let process = command
            .spawn()
            .map_err(|error| TrialError::Emulator(error.to_string()))?;
        Ok(Self { process, said })
    }

    /// Its own words.
    pub(super) fn why(&self) -> TrialError {
        let said = std::fs::read_to_string(&self.said).unwrap_or_default();
        let line = said.lines().rev().find(|line| !line.trim().is_empty());
        TrialError::Emulator(line.unwrap_or("it says nothing").to_owned())
    }

    /// Waits until it has closed its files, as it was ordered to.
    pub(super) fn wait(&mut self) {
        let end = Instant::now() + CLOSING;
        while !self.has_ended() && Instant::now() < end {
            std::thread::sleep(Duration::from_millis(20));
        }
    }

    pub(super) fn has_ended(&mut self) -> bool {
        !matches!(self.process.try_wait(), Ok(None))
    }
}

impl Drop for Emulator {
    fn drop(&mut self) {
        // What has ended cannot be ended.
        let _ = self.process.kill();
        let _ = self.process.wait();
    }
}
