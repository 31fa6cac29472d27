//! `grub.cfg`, as far as it decides what is started: where files are looked for, and the first
//! entry. Conditions are taken as met; what a variable holds is known if the text sets it.

use std::collections::HashMap;

use super::entry::{Entry, Named, Next};
use super::found::Part;

/// The most lines that are read.
const MAX_LINES: usize = 20_000;

/// A reading of the text.
struct Reader {
    variables: HashMap<String, String>,
    on: Named,
    /// The entry being read.
    entry: Option<Entry>,
    done: Vec<Entry>,
    other: Option<Next>,
}

/// What it starts by default.
pub(crate) fn read(text: &str) -> Next {
    let mut reader = Reader {
        variables: HashMap::new(),
        on: Named::Own,
        entry: None,
        done: Vec::new(),
        other: None,
    };
    let mut joined = String::new();
    for (index, line) in text.lines().take(MAX_LINES).enumerate() {
        // A backslash at the end joins lines.
        if let Some(begun) = line.strip_suffix('\\') {
            joined.push_str(begun);
            continue;
        }
        joined.push_str(line);
        for command in commands(&joined) {
            reader.command(&command, index + 1);
        }
        joined.clear();
    }
    reader.end_entry();
    let wanted = reader.variables.get("default");
    let wanted = wanted
        .and_then(|text| text.parse::<usize>().ok())
        .unwrap_or(0);
    let index = if wanted < reader.done.len() {
        wanted
    } else {
        0
    };
    match reader.done.into_iter().nth(index) {
        Some(entry) => Next::Entry(entry),
        None => reader.other.unwrap_or(Next::Nothing),
    }
}

/// A line as commands, each as words: quotes are taken off, `;`, `{` and `}` are commands' ends.
fn commands(line: &str) -> Vec<Vec<String>> {
    let (mut all, mut words, mut word) = (Vec::new(), Vec::new(), String::new());
    let mut quote: Option<char> = None;
    let mut is_word = false;
    let mut chars = line.chars();
    while let Some(sign) = chars.next() {
        match (quote, sign) {
            (Some(open), _) if sign == open => quote = None,
            (None | Some('"'), '\\') => word.extend(chars.next()),
            (Some(_), _) => word.push(sign),
            (None, '"' | '\'') => (quote, is_word) = (Some(sign), true),
            (None, '#') if word.is_empty() => break,
            (None, ';' | '{' | '}') if word.is_empty() || sign == ';' => {
                if !word.is_empty() || is_word {
                    words.push(std::mem::take(&mut word));
                }
                is_word = false;
                if sign != ';' {
                    words.push(sign.to_string());
                }
                all.push(std::mem::take(&mut words));
            }
            (None, _) if sign.is_whitespace() => {
                if !word.is_empty() || is_word {
                    words.push(std::mem::take(&mut word));
                }
                is_word = false;
            }
            (None, _) => word.push(sign),
        }
    }
    if !word.is_empty() || is_word {
        words.push(word);
    }
    all.push(words);
    all.retain(|words| !words.is_empty());
    all
}

impl Reader {
    fn command(&mut self, words: &[String], line: usize) {
        let mut words: Vec<String> = words.iter().map(|word| self.filled(word)).collect();
        // What follows a condition is a command as well.
        while matches!(words[0].as_str(), "if" | "then" | "else" | "elif" | "!") {
            words.remove(0);
            if words.is_empty() {
                return;
            }
        }
        let values = &words[1..];
        let value = values.first().map(String::as_str).unwrap_or_default();
        match words[0].as_str() {
            "menuentry" => {
                self.end_entry();
                self.entry = Some(Entry::new(self.on.clone(), line));
            }
            "set" => self.set(value),
            "search" => self.search(values),
            "search.fs_uuid" => self.look_on(Named::Id(value.to_owned())),
            "search.fs_label" => self.look_on(Named::Label(value.to_owned())),
            "search.file" => self.look_on(Named::File(value.to_owned())),
            "linux" | "linuxefi" | "linux16" => {
                let on = self.on.clone();
                let (place, path) = self.placed(value);
                let entry = self.entry.get_or_insert_with(|| Entry::new(on, line));
                entry.on = place;
                entry.load(Part::Kernel, &path, line);
                entry.options = values[1.min(values.len())..].join(" ");
                entry.line = line;
            }
            "initrd" | "initrdefi" | "initrd16" => {
                let paths: Vec<String> = values.iter().map(|path| self.placed(path).1).collect();
                if let Some(entry) = &mut self.entry {
                    paths
                        .iter()
                        .for_each(|path| entry.load(Part::Initrd, path, line));
                }
            }
            "devicetree" => {
                let path = self.placed(value).1;
                if let Some(entry) = &mut self.entry {
                    entry.load(Part::DeviceTree, &path, line);
                }
            }
            "configfile" | "normal" | "source" if !value.is_empty() && self.entry.is_none() => {
                let (on, path) = self.placed(value);
                self.other.get_or_insert(Next::Other { on, path, line });
            }
            _ => {}
        }
    }

    fn end_entry(&mut self) {
        let ended = self.entry.take().filter(|entry| entry.kernel().is_some());
        self.done.extend(ended);
    }

    fn set(&mut self, text: &str) {
        let Some((name, value)) = text.split_once('=') else {
            return;
        };
        if name == "root"
            && let Some(number) = partition_in(value)
        {
            self.look_on(Named::Partition(number));
        }
        self.variables.insert(name.to_owned(), value.to_owned());
    }

    fn look_on(&mut self, place: Named) {
        if let Some(entry) = self.entry.as_mut() {
            entry.on = place.clone();
        }
        self.on = place;
    }

    /// `search --fs-uuid --set=root HINTS… VALUE`, with its short options.
    fn search(&mut self, values: &[String]) {
        let is = |long: &str, short: char| {
            values.iter().any(|word| {
                let letters = word.strip_prefix('-').filter(|rest| !rest.starts_with('-'));
                word == long || letters.is_some_and(|letters| letters.contains(short))
            })
        };
        let Some(value) = values.iter().rev().find(|word| !word.starts_with('-')) else {
            return;
        };
        if is("--fs-uuid", 'u') {
            self.look_on(Named::Id(value.clone()));
        } else if is("--label", 'l') {
            self.look_on(Named::Label(value.clone()));
        } else {
            self.look_on(Named::File(value.clone()));
        }
    }

    /// `(hd0,gpt2)/vmlinuz` names its partition; other paths are on the file system of `root`.
    fn placed(&self, path: &str) -> (Named, String) {
        let split = path.strip_prefix('(').and_then(|rest| rest.split_once(')'));
        match split {
            Some((device, path)) => {
                let number = partition_in(device);
                let on = number.map_or_else(|| self.on.clone(), Named::Partition);
                (on, path.to_owned())
            }
            None => (self.on.clone(), path.to_owned()),
        }
    }

    /// A word with its variables: `$name` and `${name}`. Unknown ones are empty.
    fn filled(&self, word: &str) -> String {
        let mut filled = String::new();
        let mut rest = word;
        while let Some((before, after)) = rest.split_once('$') {
            filled.push_str(before);
            let (name, end) = match after
                .strip_prefix('{')
                .and_then(|text| text.split_once('}'))
            {
                Some(found) => found,
                None => {
                    let is_name = |sign: char| sign.is_ascii_alphanumeric() || sign == '_';
                    let end = after.find(|sign| !is_name(sign)).unwrap_or(after.len());
                    after.split_at(end)
                }
            };
            // `($root)` is where `on` points already.
            let value = self.variables.get(name).map_or("", String::as_str);
            filled.push_str(value);
            rest = end;
        }
        filled + rest
    }
}

/// The number in `hd0,gpt2` or `hd0,msdos1`.
fn partition_in(device: &str) -> Option<u32> {
    let (_, name) = device.trim_matches(['(', ')']).split_once(',')?;
    let digits = name.trim_start_matches(|sign: char| !sign.is_ascii_digit());
    digits.parse().ok()
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    fn entry(text: &str) -> Entry {
        match read(text) {
            Next::Entry(entry) => entry,
            next => panic!("{next:?}"),
        }
    }

    #[test]
    fn a_generated_text_is_understood() {
        let text = "set default=\"0\"\nif [ x$feature = xy ]; then\n  search --no-floppy --fs-uuid --set=root --hint='hd0,gpt2' 1234-ab\nelse\n  \
            search --no-floppy --fs-uuid --set=root 1234-ab\nfi\nmenuentry 'Hut' --class os $menuentry_id_option 'x' {\n\
            \tlinux\t/boot/vmlinuz-6.1 root=UUID=1234-ab ro \\\n quiet\n\tinitrd /boot/initrd.img-6.1\n}\n\
            menuentry \"other\" { linux /other }\n";
        let entry = entry(text);
        assert_eq!(entry.on, Named::Id("1234-ab".to_owned()));
        assert_eq!(entry.option("root"), Some("UUID=1234-ab"));
        assert!(entry.has_initrd() && entry.options.ends_with("quiet"));
        assert_eq!(
            entry.kernel().map(|load| (load.path.as_str(), load.line)),
            Some(("/boot/vmlinuz-6.1", 9))
        );
    }

    #[rstest]
    #[case("search.fs_uuid 77-AA root\nset prefix=($root)'/boot/grub'\nconfigfile $prefix/grub.cfg\n", Named::Id("77-AA".into()), "/boot/grub/grub.cfg")]
    #[case(
        "configfile (hd0,gpt2)/grub/grub.cfg",
        Named::Partition(2),
        "/grub/grub.cfg"
    )]
    #[case("search -f --set=root /hut.mark; configfile /g.cfg", Named::File("/hut.mark".into()), "/g.cfg")]
    fn others_are_followed(#[case] text: &str, #[case] on: Named, #[case] path: &str) {
        let Next::Other {
            on: found,
            path: at,
            ..
        } = read(text)
        else {
            panic!("{:?}", read(text));
        };
        assert_eq!((found, at.as_str()), (on, path));
    }

    #[rstest]
    #[case("")]
    #[case("menuentry 'nothing' {\n}\n")]
    #[case("echo 'linux /x' # linux /y")]
    fn nothing_is_started(#[case] text: &str) {
        assert_eq!(read(text), Next::Nothing);
    }

    #[test]
    fn the_default_counts() {
        let text = "set default=1\nmenuentry a {\n linux /a\n}\nmenuentry b {\n linux /b root=/dev/sda2\n}\n";
        assert_eq!(entry(text).option("root"), Some("/dev/sda2"));
    }

    proptest::proptest! {
        #[test]
        fn any_text_is_read(text in "[ -~\n\t$\\\\'\"{};]{0,400}") {
            let _ = read(&text);
        }
    }
}
