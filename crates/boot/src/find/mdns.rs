//! Names and services by multicast DNS (RFC 6762, RFC 6763).

use std::net::IpAddr;

use mdns_sd::{HostnameResolutionEvent, IfKind, Receiver, ServiceDaemon, ServiceEvent};

/// What boards with an SSH server announce (RFC 6763, section 7).
pub const SERVICE: &str = "_ssh._tcp.local.";

/// A name that was answered.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(super) struct Answer {
    /// Without the domain.
    pub(super) name: String,
    pub(super) address: IpAddr,
    /// The port of its SSH server, if it announces one.
    pub(super) port: Option<u16>,
}

/// Asks the link, and listens.
pub(super) struct Asker {
    daemon: ServiceDaemon,
    services: Receiver<ServiceEvent>,
    names: Vec<Receiver<HostnameResolutionEvent>>,
}

impl Asker {
    /// On all interfaces, or on the loopback interface alone.
    pub(super) fn new(is_loopback: bool) -> Result<Self, mdns_sd::Error> {
        let daemon = ServiceDaemon::new()?;
        if is_loopback {
            daemon.disable_interface(IfKind::All)?;
            daemon.enable_interface(IfKind::LoopbackV4)?;
        }
        Ok(Self {
            services: daemon.browse(SERVICE)?,
            daemon,
            names: Vec::new(),
        })
    }

    /// Asks for a host's address, again and again.
    pub(super) fn ask(&mut self, name: &str) {
        let name = format!("{name}.local.");
        // A name that cannot be asked for is not found.
        self.names
            .extend(self.daemon.resolve_hostname(&name, None).ok());
    }

    /// What was answered since.
    pub(super) fn answers(&self) -> Vec<Answer> {
        let mut all = Vec::new();
        while let Ok(event) = self.services.try_recv() {
            if let ServiceEvent::ServiceResolved(found) = event {
                let name = bare(&found.host);
                all.extend(found.addresses.iter().map(|address| Answer {
                    name: name.clone(),
                    address: address.to_ip_addr(),
                    port: Some(found.port),
                }));
            }
        }
        for receiver in &self.names {
            while let Ok(event) = receiver.try_recv() {
                if let HostnameResolutionEvent::AddressesFound(host, addresses) = event {
                    let name = bare(&host);
                    all.extend(addresses.iter().map(|address| Answer {
                        name: name.clone(),
                        address: address.to_ip_addr(),
                        port: None,
                    }));
                }
            }
        }
        all
    }
}

impl Drop for Asker {
    fn drop(&mut self) {
        // It ends with the program, too.
        let _ = self.daemon.shutdown();
    }
}

fn bare(host: &str) -> String {
    let name = host.trim_end_matches('.');
    name.strip_suffix(".local")
        .unwrap_or(name)
        .to_ascii_lowercase()
}
