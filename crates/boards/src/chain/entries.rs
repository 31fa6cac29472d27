//! Entries of the Boot Loader Specification (UAPI.1, "Type #1 Boot Loader Entries"): a file each.

use super::entry::{Entry, Named};
use super::found::Part;

/// An entry, from the text of its file.
pub(crate) fn read(text: &str) -> Entry {
    let mut entry = Entry::new(Named::Own, 1);
    for (index, line) in text.lines().enumerate() {
        let line = line.trim();
        let Some((key, value)) = line.split_once(char::is_whitespace) else {
            continue;
        };
        let (value, number) = (value.trim(), index + 1);
        match key {
            "linux" | "efi" => entry.load(Part::Kernel, value, number),
            "initrd" => entry.load(Part::Initrd, value, number),
            "devicetree" => entry.load(Part::DeviceTree, value, number),
            "options" => {
                if !entry.options.is_empty() {
                    entry.options.push(' ');
                }
                entry.options.push_str(value);
                entry.line = number;
            }
            _ => {}
        }
    }
    entry
}

/// The pattern that `loader.conf` chooses the default entry by.
pub(crate) fn default_in(text: &str) -> Option<&str> {
    let mut values = text
        .lines()
        .filter_map(|line| line.trim().split_once(char::is_whitespace));
    let (_, value) = values.find(|(key, _)| *key == "default")?;
    Some(value.trim())
}

/// Whether an entry's name is chosen by a pattern, which may end in `*`.
pub(crate) fn is_chosen(pattern: &str, name: &str) -> bool {
    let bare = |text: &str| text.trim_end_matches(".conf").to_ascii_lowercase();
    match pattern.split_once('*') {
        Some((start, _)) => name
            .to_ascii_lowercase()
            .starts_with(&start.to_ascii_lowercase()),
        None => bare(pattern) == bare(name),
    }
}
