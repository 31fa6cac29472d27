//! What configurations of loaders say: entries, each with a kernel and its command line.

use super::found::Part;

/// How a file system is named.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Named {
    /// The one with the configuration itself.
    Own,
    /// By its identifier.
    Id(String),
    /// By its label.
    Label(String),
    /// By a file in it.
    File(String),
    /// By its partition's number.
    Partition(u32),
}

/// A file that an entry names.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Load {
    pub(crate) part: Part,
    pub(crate) path: String,
    pub(crate) line: usize,
}

/// An entry of a boot menu.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) struct Entry {
    /// Its file system.
    pub(crate) on: Named,
    pub(crate) loads: Vec<Load>,
    /// The kernel's command line.
    pub(crate) options: String,
    /// The line of the command line.
    pub(crate) line: usize,
}

impl Entry {
    pub(crate) fn new(on: Named, line: usize) -> Self {
        Self {
            on,
            loads: Vec::new(),
            options: String::new(),
            line,
        }
    }

    pub(crate) fn load(&mut self, part: Part, path: &str, line: usize) {
        self.loads.push(Load {
            part,
            path: path.to_owned(),
            line,
        });
    }

    pub(crate) fn kernel(&self) -> Option<&Load> {
        self.loads.iter().find(|load| load.part == Part::Kernel)
    }

    pub(crate) fn has_initrd(&self) -> bool {
        self.loads.iter().any(|load| load.part == Part::Initrd)
    }

    /// The value of an option such as `root=`; the last one counts.
    pub(crate) fn option(&self, name: &str) -> Option<&str> {
        let words = self.options.split_ascii_whitespace();
        let mut values = words.filter_map(|word| word.strip_prefix(name)?.strip_prefix('='));
        values.next_back()
    }
}

/// A configuration: its default entry, or another configuration.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Next {
    /// This is started.
    Entry(Entry),
    /// That one is read.
    Other {
        on: Named,
        path: String,
        line: usize,
    },
    /// Nothing.
    Nothing,
}
