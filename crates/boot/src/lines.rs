//! Bytes of a console as lines; a line that is not finished is not lost.

use std::time::{Duration, Instant};

/// Longer lines are cut into several, in bytes.
const LONGEST: usize = 4096;
/// A prompt stays without an end; after so long it counts as a line.
const PROMPT: Duration = Duration::from_millis(300);

/// A line of a console.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Line {
    /// Its text, without control characters and escape sequences.
    pub text: String,
    /// Whether it was ended; a prompt is not.
    pub is_whole: bool,
}

/// Collects bytes into lines.
#[derive(Debug, Default)]
pub struct Lines {
    rest: Vec<u8>,
    /// How much of the rest was given out as an unfinished line.
    told: usize,
    since: Option<Instant>,
}

impl Lines {
    /// Takes bytes that came at `now`; returns the lines that they complete.
    pub fn take(&mut self, bytes: &[u8], now: Instant) -> Vec<Line> {
        let mut all = Vec::new();
        for &byte in bytes {
            if byte == b'\n' || self.rest.len() >= LONGEST {
                all.extend(self.finish());
            }
            if byte != b'\n' {
                self.rest.push(byte);
            }
        }
        if !bytes.is_empty() {
            self.since = Some(now);
        }
        all
    }

    /// What has stood there unfinished for a while: a prompt.
    pub fn waiting(&mut self, now: Instant) -> Option<Line> {
        let since = self.since?;
        if self.rest.len() == self.told || now.duration_since(since) < PROMPT {
            return None;
        }
        self.told = self.rest.len();
        let text = plain(&self.rest);
        (!text.trim().is_empty()).then_some(Line {
            text,
            is_whole: false,
        })
    }

    /// Ends the line that is not finished, if there is one.
    pub fn finish(&mut self) -> Option<Line> {
        let rest = std::mem::take(&mut self.rest);
        self.told = 0;
        (!rest.is_empty()).then(|| Line {
            text: plain(&rest),
            is_whole: true,
        })
    }
}

/// Text without what controls a terminal: escape sequences (ECMA-48, sections 5.3 and 5.4), and
/// control characters. What a carriage return overwrites is left out.
fn plain(bytes: &[u8]) -> String {
    let text = String::from_utf8_lossy(bytes);
    let mut out = String::with_capacity(text.len());
    let mut signs = text.trim_end_matches('\r').chars().peekable();
    while let Some(sign) = signs.next() {
        match sign {
            '\x1b' => match signs.peek() {
                Some('[') => {
                    signs.next();
                    // Parameters, then one final character.
                    while signs.next_if(|sign| matches!(sign, ' '..='?')).is_some() {}
                    signs.next_if(|sign| matches!(sign, '@'..='~'));
                }
                Some(']') => while signs.next_if(|sign| *sign != '\x07').is_some() {},
                _ => {
                    while signs.next_if(|sign| matches!(sign, ' '..='/')).is_some() {}
                    signs.next_if(|sign| matches!(sign, '0'..='~'));
                }
            },
            '\r' => out.clear(),
            '\t' => out.push(' '),
            sign if sign.is_control() => {}
            sign => out.push(sign),
        }
    }
    out
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use rstest::rstest;

    #[rstest]
    #[case("\x1b[2J\x1b[01;32mwelcome\x1b[0m", "welcome")]
    #[case("10 %\r50 %\rdone\r", "done")]
    #[case("\x1b]0;title\x07text", "text")]
    #[case("\x1b(Btext\x07", "text")]
    #[case("a\tb", "a b")]
    #[case("\x1b[", "")]
    fn what_controls_a_terminal_is_left_out(#[case] raw: &str, #[case] expected: &str) {
        assert_eq!(plain(raw.as_bytes()), expected);
    }

    #[test]
    fn a_prompt_is_told_once_and_its_line_is_not_lost() {
        let mut lines = Lines::default();
        let start = Instant::now();
        assert!(lines.take(b"\r\nlarkfell-03 login: ", start).len() == 1);
        assert_eq!(lines.waiting(start), None);
        let later = start + PROMPT;
        let prompt = lines.waiting(later).unwrap();
        assert_eq!(prompt.text, "larkfell-03 login: ");
        assert!(!prompt.is_whole);
        assert_eq!(lines.waiting(later + PROMPT), None);
        let ended = lines.take(b"warden\r\n", later);
        assert_eq!(ended[0].text, "larkfell-03 login: warden");
    }

    proptest! {
        #[test]
        fn no_bytes_are_lost_or_panic(pieces in prop::collection::vec("[ -~\n]{0,50}", 0..20)) {
            let mut lines = Lines::default();
            let mut found = Vec::new();
            for piece in &pieces {
                found.extend(lines.take(piece.as_bytes(), Instant::now()));
            }
            found.extend(lines.finish());
            let found: Vec<&str> = found.iter().map(|line| line.text.as_str()).collect();
            let all = pieces.concat();
            let expected: Vec<&str> = all.split('\n').filter(|line| !line.is_empty()).collect();
            prop_assert_eq!(found, expected);
        }

        #[test]
        fn any_bytes_are_text(bytes in prop::collection::vec(any::<u8>(), 0..300)) {
            let text = plain(&bytes);
            prop_assert!(!text.chars().any(char::is_control));
        }
    }
}
