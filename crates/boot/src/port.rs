//! Serial ports.

use std::io::{self, Read, Write};
use std::path::{Path, PathBuf};
use std::time::Duration;

use serialport::{SerialPort, TTYPort};

use crate::watch::Console;

/// Rates at which boards usually speak, in bits a second; the most usual first.
pub const RATES: [u32; 8] = [
    115_200, 1_500_000, 9_600, 38_400, 57_600, 19_200, 921_600, 230_400,
];
/// The kernel's list of terminals.
const CLASS: &str = "/sys/class/tty";
/// How long a read waits.
const WAIT: Duration = Duration::from_millis(20);

/// Why a port cannot be used.
#[derive(Debug, thiserror::Error)]
pub enum PortError {
    /// There is nothing with this name.
    #[error("there is no {}", .0.display())]
    Missing(PathBuf),
    /// This user may not open it.
    #[error("{} cannot be opened by this user", .0.display())]
    NotAllowed(PathBuf),
    /// Another program has it.
    #[error("{} is used by another program", .0.display())]
    Busy(PathBuf),
    /// The system refused.
    #[error("{} cannot be opened: {why}", path.display())]
    Other {
        /// The port.
        path: PathBuf,
        /// The system's answer.
        why: String,
    },
}

/// Where a port is; it may come and go.
#[derive(Clone, Debug)]
pub struct Place(pub PathBuf);

impl Place {
    /// Opens the port at a rate, with 8 bits, no parity and one stop bit.
    ///
    /// # Errors
    /// [`PortError`].
    pub fn open(&self, rate: u32) -> Result<SerialConsole, PortError> {
        let path = self.0.clone();
        let opened = serialport::new(path.to_string_lossy(), rate)
            .timeout(WAIT)
            .open_native();
        opened.map(SerialConsole).map_err(|error| {
            use serialport::ErrorKind;
            match error.kind {
                ErrorKind::Io(io::ErrorKind::PermissionDenied) => PortError::NotAllowed(path),
                ErrorKind::NoDevice if error.description.contains("busy") => PortError::Busy(path),
                _ if !path.exists() => PortError::Missing(path),
                _ => PortError::Other {
                    path,
                    why: error.description,
                },
            }
        })
    }
}

/// An open serial port.
pub struct SerialConsole(TTYPort);

impl Console for SerialConsole {
    fn read(&mut self, buffer: &mut [u8]) -> io::Result<usize> {
        match self.0.read(buffer) {
            Ok(0) => Err(io::ErrorKind::UnexpectedEof.into()),
            Err(error) if error.kind() == io::ErrorKind::TimedOut => Ok(0),
            read => read,
        }
    }

    fn write(&mut self, bytes: &[u8]) -> io::Result<()> {
        self.0.write_all(bytes)?;
        self.0.flush()
    }

    fn set_rate(&mut self, rate: u32) -> io::Result<()> {
        self.0.set_baud_rate(rate)?;
        Ok(())
    }
}

/// The serial ports that have a device behind them. Names of ports that the kernel only keeps in
/// stock are left out.
pub fn ports() -> Vec<PathBuf> {
    // The crate expects the kernel's list to be there.
    if !Path::new(CLASS).is_dir() {
        return Vec::new();
    }
    let all = serialport::available_ports().unwrap_or_default();
    let mut names: Vec<PathBuf> = all.into_iter().map(|port| port.port_name.into()).collect();
    names.retain(|name| has_device(name));
    names.sort();
    names
}

fn has_device(port: &Path) -> bool {
    let name = port.file_name().unwrap_or_default();
    let home = Path::new(CLASS).join(name);
    let is_stock = std::fs::read_to_string(home.join("type")).is_ok_and(|kind| kind.trim() == "0");
    home.join("device").exists() && !is_stock
}
