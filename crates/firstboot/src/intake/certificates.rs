//! Files that wireless networks with accounts need on the unit.

use pinewrit_settings::{EapMethod, Enterprise, Wireless, WirelessKey};

const FOLDER: &str = "/etc/pinewrit/wireless";

/// The folder for the files of one network.
pub(crate) struct Paths {
    pub(crate) authority: String,
    pub(crate) certificate: String,
    pub(crate) key: String,
}

impl Paths {
    /// `index` is the network's position in the settings.
    pub(crate) fn of(index: usize) -> Self {
        let number = index + 1;
        Self {
            authority: format!("{FOLDER}/{number}-authority.pem"),
            certificate: format!("{FOLDER}/{number}-certificate.pem"),
            key: format!("{FOLDER}/{number}-key.pem"),
        }
    }
}

/// A file of a network.
pub(crate) struct NetworkFile<'w> {
    pub(crate) path: String,
    pub(crate) content: &'w str,
    /// Only root may read it.
    pub(crate) is_secret: bool,
}

/// All files of all networks.
pub(crate) fn files(wireless: &Wireless) -> Vec<NetworkFile<'_>> {
    let mut files = Vec::new();
    for (index, network) in wireless.networks.iter().enumerate() {
        if let WirelessKey::Enterprise(account) = &network.key {
            files.extend(files_of(account, &Paths::of(index)));
        }
    }
    files
}

fn files_of<'w>(account: &'w Enterprise, paths: &Paths) -> Vec<NetworkFile<'w>> {
    let file = |path: &str, content, is_secret| NetworkFile {
        path: path.to_owned(),
        content,
        is_secret,
    };
    let mut files = Vec::new();
    if let Some(authority) = &account.authority {
        files.push(file(&paths.authority, authority.as_str(), false));
    }
    if let EapMethod::Tls {
        certificate, key, ..
    } = &account.method
    {
        files.push(file(&paths.certificate, certificate.as_str(), false));
        files.push(file(&paths.key, key.reveal(), true));
    }
    files
}
