//! A text as lines, each with its own end.

/// A line without its end, and the end.
#[derive(Clone, Debug)]
pub(super) struct Line {
    pub(super) text: String,
    end: &'static str,
}

pub(super) struct Lines {
    pub(super) lines: Vec<Line>,
    /// The line ending used here.
    end: &'static str,
}

impl Lines {
    pub(super) fn of(text: &str) -> Self {
        let mut lines = Vec::new();
        for piece in text.split_inclusive('\n') {
            let (text, end) = match piece.strip_suffix("\r\n") {
                Some(text) => (text, "\r\n"),
                None => match piece.strip_suffix('\n') {
                    Some(text) => (text, "\n"),
                    None => (piece, ""),
                },
            };
            let text = text.to_owned();
            lines.push(Line { text, end });
        }
        let dos = lines.iter().filter(|line| line.end == "\r\n").count();
        let end = if dos * 2 > lines.len() { "\r\n" } else { "\n" };
        Self { lines, end }
    }

    pub(super) fn insert(&mut self, at: usize, text: &str) {
        let mut end = self.end;
        if at == self.lines.len()
            && let Some(last) = self.lines.last_mut()
            && last.end.is_empty()
        {
            // The text ends without a newline.
            last.end = self.end;
            end = "";
        }
        let text = text.to_owned();
        self.lines.insert(at, Line { text, end });
    }

    pub(super) fn remove_where(&mut self, mut is_meant: impl FnMut(usize, &str) -> bool) {
        let ends_open = self.lines.last().is_some_and(|last| last.end.is_empty());
        let mut index = 0;
        self.lines.retain(|line| {
            let keep = !is_meant(index, &line.text);
            index += 1;
            keep
        });
        if let Some(last) = self.lines.last_mut().filter(|_| ends_open) {
            last.end = "";
        }
    }

    pub(super) fn find(
        &self,
        range: std::ops::Range<usize>,
        is_meant: impl Fn(&str) -> bool,
    ) -> Option<usize> {
        range
            .clone()
            .find(|&index| is_meant(&self.lines[index].text))
    }

    /// Lines of a section, without its head; `None` if there is none.
    pub(super) fn section(&self, name: &str) -> Option<std::ops::Range<usize>> {
        let head = self.find(0..self.lines.len(), |line| head_of(line) == Some(name))?;
        let rest = head + 1..self.lines.len();
        let end = self.find(rest, |line| head_of(line).is_some());
        Some(head + 1..end.unwrap_or(self.lines.len()))
    }

    /// Adds a line at the end of a section, before the blank lines that separate it from the next.
    pub(super) fn add_to_section(&mut self, name: &str, text: &str) {
        let range = match self.section(name) {
            Some(range) => range,
            None => {
                if self
                    .lines
                    .last()
                    .is_some_and(|last| !last.text.trim().is_empty())
                {
                    self.insert(self.lines.len(), "");
                }
                self.insert(self.lines.len(), &format!("[{name}]"));
                self.lines.len()..self.lines.len()
            }
        };
        let mut at = range.end;
        while at > range.start && self.lines[at - 1].text.trim().is_empty() {
            at -= 1;
        }
        self.insert(at, text);
    }

    pub(super) fn into_text(self) -> String {
        let lines = self.lines.iter();
        lines
            .flat_map(|line| [line.text.as_str(), line.end])
            .collect()
    }
}

/// The name in a section's head.
pub(super) fn head_of(line: &str) -> Option<&str> {
    line.trim()
        .strip_prefix('[')?
        .strip_suffix(']')
        .map(str::trim)
}

/// A commented-out line, without the comment sign.
pub(super) fn commented(line: &str) -> Option<&str> {
    let line = line.trim_start();
    let bare = line.trim_start_matches(['#', ';']);
    (bare.len() < line.len()).then_some(bare.trim())
}

/// The key of a line that sets one.
pub(super) fn key_of(line: &str) -> Option<&str> {
    let line = line.trim();
    if line.starts_with(['#', ';']) {
        None
    } else {
        line.split_once('=').map(|(key, _)| key.trim_end())
    }
}
