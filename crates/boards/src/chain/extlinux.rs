//! `extlinux.conf`: lines of a keyword and its value, as boot firmware of boards reads them.

use super::entry::{Entry, Named, Next};
use super::found::Part;

/// The entry that is started by default: the one that `DEFAULT` names, or the first.
pub(crate) fn read(text: &str) -> Next {
    let mut default: Option<&str> = None;
    let mut entries: Vec<(&str, Entry)> = Vec::new();
    for (index, line) in text.lines().enumerate() {
        let line = line.trim();
        if line.starts_with('#') {
            continue;
        }
        let (word, value) = line.split_once(char::is_whitespace).unwrap_or((line, ""));
        let (word, value, number) = (word.to_ascii_lowercase(), value.trim(), index + 1);
        if word == "default" || word == "ontimeout" {
            default = Some(value);
        }
        if word == "label" {
            entries.push((value, Entry::new(Named::Own, number)));
        }
        let Some((_, entry)) = entries.last_mut() else {
            continue;
        };
        match word.as_str() {
            "kernel" | "linux" => entry.load(Part::Kernel, value, number),
            "initrd" => {
                let files = value.split(',').map(str::trim);
                files.for_each(|file| entry.load(Part::Initrd, file, number));
            }
            "fdt" | "devicetree" => entry.load(Part::DeviceTree, value, number),
            "append" => {
                let words = value.split_ascii_whitespace();
                for file in words.filter_map(|word| word.strip_prefix("initrd=")) {
                    let files = file.split(',');
                    files.for_each(|file| entry.load(Part::Initrd, file, number));
                }
                value.clone_into(&mut entry.options);
                entry.line = number;
            }
            _ => {}
        }
    }
    let at = entries.iter().position(|(name, _)| Some(*name) == default);
    let chosen = entries.into_iter().nth(at.unwrap_or(0));
    chosen.map_or(Next::Nothing, |(_, entry)| Next::Entry(entry))
}
