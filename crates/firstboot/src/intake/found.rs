//! Finding settings on a medium, from any intake.

use pinewrit_disk::BlockDevice;
use pinewrit_volume::files::open_to_read;

use super::rootfs::State;
use super::{SettingsFacts, cloud_init, networks};

/// Looks for settings in a file system. What cannot be read counts as absent.
pub fn find_settings(device: &dyn BlockDevice, partition: Option<u32>) -> Option<SettingsFacts> {
    let files = open_to_read(device).ok()?;
    if !files.keeps_rights() {
        return cloud_init::find_seed(&files, "", partition);
    }
    if let Some(state) = State::read(&files).ok().flatten() {
        let clean = |text: &str| text.chars().map(pinewrit_volume::printable).collect();
        let host_name = files.text("/etc/hostname").ok().flatten();
        let mut networks = Vec::new();
        for path in state.files.keys() {
            let text = files.text(path).ok().flatten().unwrap_or_default();
            networks.extend(networks::in_file(path, &text));
        }
        networks.sort();
        networks.dedup();
        return Some(SettingsFacts {
            intake: "rootfs".to_owned(),
            partition,
            host_name: host_name.map(|name| clean(name.trim())),
            users: state.users.keys().map(|name| clean(name)).collect(),
            networks,
        });
    }
    cloud_init::find_seed(&files, "/var/lib/cloud/seed/nocloud", partition)
}
