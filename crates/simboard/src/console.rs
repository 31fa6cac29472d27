//! The board's console: a pseudo-terminal on which text comes at a rate.

use std::io;
use std::path::PathBuf;
use std::time::Duration;

use rustix::fd::OwnedFd;
use rustix::fs::{Mode, OFlags, fcntl_setfl, open};
use rustix::pty::{OpenptFlags, grantpt, openpt, ptsname, unlockpt};
use rustix::termios::{OptionalActions, tcgetattr, tcsetattr};

pub(crate) struct Console {
    master: OwnedFd,
    /// Held open, so that readers may come and go.
    slave: OwnedFd,
    path: PathBuf,
    /// Bits a second.
    rate: u32,
    /// Whether nobody can read it, at any rate.
    is_garbage: bool,
}

impl Console {
    pub(crate) fn new(rate: u32, is_garbage: bool) -> io::Result<Self> {
        let master = openpt(OpenptFlags::RDWR | OpenptFlags::NOCTTY | OpenptFlags::CLOEXEC)?;
        grantpt(&master)?;
        unlockpt(&master)?;
        let name = ptsname(&master, Vec::new())?;
        let path = PathBuf::from(name.to_string_lossy().into_owned());
        let slave = open(
            &path,
            OFlags::RDWR | OFlags::NOCTTY | OFlags::CLOEXEC,
            Mode::empty(),
        )?;
        let mut settings = tcgetattr(&slave)?;
        settings.make_raw();
        settings
            .set_speed(rate)
            .or_else(|_| settings.set_speed(115_200))?;
        tcsetattr(&slave, OptionalActions::Now, &settings)?;
        // What nobody reads is lost, as on a wire.
        fcntl_setfl(&master, OFlags::RDWR | OFlags::NONBLOCK)?;
        Ok(Self {
            master,
            slave,
            path,
            rate,
            is_garbage,
        })
    }

    pub(crate) fn path(&self) -> &PathBuf {
        &self.path
    }

    /// Sends text; at another rate than the reader's it arrives as garbage.
    pub(crate) fn send(&self, text: &str) {
        let rate = tcgetattr(&self.slave).map(|settings| settings.output_speed());
        let is_read_well = !self.is_garbage && rate.is_ok_and(|rate| rate == self.rate);
        let bytes: Vec<u8> = match is_read_well {
            true => text.bytes().collect(),
            false => text
                .bytes()
                .map(|byte| byte.wrapping_mul(37) | 0x80)
                .collect(),
        };
        // Bits take their time: ten a byte.
        let seconds = bytes.len() as f64 * 10.0 / f64::from(self.rate.max(1));
        let _ = rustix::io::write(&self.master, &bytes);
        std::thread::sleep(Duration::from_secs_f64(seconds.min(1.0)));
    }

    /// Throws away what was typed.
    pub(crate) fn ignore_input(&self) -> bool {
        let mut buffer = [0; 256];
        rustix::io::read(&self.master, &mut buffer).is_ok_and(|read| read > 0)
    }
}
