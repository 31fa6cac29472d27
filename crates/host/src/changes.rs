//! Waiting until media come or go: the kernel's own announcements, where they can be heard.

use std::fs::File;
use std::io::{Read, Seek, SeekFrom};
use std::os::fd::OwnedFd;
use std::thread;
use std::time::Duration;

use rustix::event::{PollFd, PollFlags, Timespec, poll};
use rustix::net::netlink::{KOBJECT_UEVENT, SocketAddrNetlink};
use rustix::net::{AddressFamily, RecvFlags, SocketFlags, SocketType, bind, recv, socket_with};

use crate::Readers;

/// The group to which the kernel sends its device events (`lib/kobject_uevent.c`).
const KERNEL_GROUP: u32 = 1;
/// The device's file in `/dev` may appear a moment after the event.
const SETTLE: Duration = Duration::from_millis(200);

/// Tells when it is worth looking at the media again.
#[derive(Debug, Default)]
pub struct Changes {
    events: Option<OwnedFd>,
    mounts: Option<File>,
}

impl Changes {
    /// Listens for changes of these readers. If the system does not allow that, nothing is ever
    /// heard, and callers fall back to polling.
    pub fn of(readers: &Readers) -> Self {
        match readers {
            Readers::Rack(_) => Self::default(),
            Readers::Computer(roots) => Self {
                events: listen().ok(),
                mounts: File::open(roots.proc.join("self/mountinfo")).ok(),
            },
        }
    }

    /// Whether the kernel announces media that come and go.
    pub fn hears_the_kernel(&self) -> bool {
        self.events.is_some()
    }

    /// Waits until something may have changed; `false` when nothing did for `at_most`.
    pub fn wait(&mut self, at_most: Duration) -> bool {
        let mut waiting = Vec::new();
        if let Some(events) = &self.events {
            waiting.push(PollFd::new(events, PollFlags::IN));
        }
        // The list of mounts announces its changes as exceptions, proc_pid_mounts(5).
        if let Some(mounts) = &self.mounts {
            waiting.push(PollFd::new(mounts, PollFlags::PRI));
        }
        let timeout = Timespec::try_from(at_most).ok();
        if waiting.is_empty() || poll(&mut waiting, timeout.as_ref()).is_err() {
            thread::sleep(at_most);
            return false;
        }
        let changed = waiting.iter().any(|fd| !fd.revents().is_empty());
        if changed {
            thread::sleep(SETTLE);
            self.drain();
        }
        changed
    }

    /// Discards the announcements so far: the media are about to be examined.
    fn drain(&mut self) {
        let mut buffer = [0; 8192];
        if let Some(events) = &self.events {
            while recv(events, &mut buffer[..], RecvFlags::DONTWAIT).is_ok() {}
        }
        if let Some(mounts) = &mut self.mounts {
            // Only a reader of the list is told of the next change.
            let read = mounts.seek(SeekFrom::Start(0));
            let _ = read.and_then(|_| mounts.read_to_end(&mut Vec::new()));
        }
    }
}

fn listen() -> rustix::io::Result<OwnedFd> {
    let flags = SocketFlags::CLOEXEC | SocketFlags::NONBLOCK;
    let family = AddressFamily::NETLINK;
    let socket = socket_with(family, SocketType::DGRAM, flags, Some(KOBJECT_UEVENT))?;
    bind(&socket, &SocketAddrNetlink::new(0, KERNEL_GROUP))?;
    Ok(socket)
}
