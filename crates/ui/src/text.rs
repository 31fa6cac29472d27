//! Names from media, archives and servers, without characters that could control or mislead a
//! terminal.

/// Replaces characters that are not shown.
const SHOWN_INSTEAD: char = '\u{fffd}';

/// Whether a character changes how others are displayed, or is itself invisible: controls,
/// directional formatting (Unicode 16, UAX #9, 2.1 to 2.6), fillers, joiners and tags.
fn is_hidden(c: char) -> bool {
    c.is_control()
        || matches!(
            c,
            '\u{ad}'
                | '\u{34f}'
                | '\u{61c}'
                | '\u{115f}'
                | '\u{1160}'
                | '\u{17b4}'
                | '\u{17b5}'
                | '\u{180b}'..='\u{180f}'
                | '\u{200b}'..='\u{200f}'
                | '\u{2028}'..='\u{202e}'
                | '\u{2060}'..='\u{206f}'
                | '\u{3164}'
                | '\u{feff}'
                | '\u{ffa0}'
                | '\u{fff0}'..='\u{fffb}'
                | '\u{1bca0}'..='\u{1bca3}'
                | '\u{1d173}'..='\u{1d17a}'
                | '\u{e0000}'..='\u{e0fff}'
        )
}

/// A name with a mark in place of each such character.
pub fn printable(name: &str) -> String {
    let plain = |c: char| if is_hidden(c) { SHOWN_INSTEAD } else { c };
    name.chars().map(plain).collect()
}

/// A whole text of ours with names in it: newlines, tabs and colours stay.
pub(crate) fn safe(text: &str) -> String {
    let mut clean = String::with_capacity(text.len());
    let mut rest = text;
    while let Some(c) = rest.chars().next() {
        let len = match c {
            '\n' | '\t' => 1,
            '\x1b' => color_len(rest).unwrap_or(0),
            c if is_hidden(c) => 0,
            c => c.len_utf8(),
        };
        match len {
            0 => {
                clean.push(SHOWN_INSTEAD);
                rest = &rest[c.len_utf8()..];
            }
            len => {
                clean.push_str(&rest[..len]);
                rest = &rest[len..];
            }
        }
    }
    clean
}

/// The length of the colour sequence (ECMA-48, 8.3.117) at the start of a text.
fn color_len(text: &str) -> Option<usize> {
    let body = text.strip_prefix("\x1b[")?;
    let end = body.find(|c: char| !c.is_ascii_digit() && c != ';')?;
    body[end..].starts_with('m').then_some(2 + end + 1)
}

/// A line of JSON in which such characters are escaped (RFC 8259, section 7).
pub(crate) fn safe_json(line: &str) -> String {
    let mut clean = String::with_capacity(line.len());
    for c in line.chars() {
        match c {
            c if !c.is_ascii() && is_hidden(c) => {
                let mut units = [0; 2];
                for unit in c.encode_utf16(&mut units) {
                    clean += &format!("\\u{unit:04x}");
                }
            }
            c => clean.push(c),
        }
    }
    clean
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case::direction("exe.\u{202e}txt.os", "exe.\u{fffd}txt.os")]
    #[case::isolate("a\u{2066}b", "a\u{fffd}b")]
    #[case::joiner("a\u{200b}b", "a\u{fffd}b")]
    #[case::c1("a\u{9b}31mb", "a\u{fffd}31mb")]
    #[case::title("\x1b]0;x\x07", "\u{fffd}]0;x\u{fffd}")]
    #[case::letters("Hütte 峠 ❄", "Hütte 峠 ❄")]
    fn what_deceives_is_marked(#[case] name: &str, #[case] shown: &str) {
        assert_eq!(printable(name), shown);
        assert_eq!(safe(name), shown);
    }

    #[test]
    fn colours_and_lines_stay() {
        let text = "\x1b[1;31mred\x1b[0m\n\tx \x1b[2J";
        assert_eq!(safe(text), "\x1b[1;31mred\x1b[0m\n\tx \u{fffd}[2J");
    }

    #[test]
    fn json_stays_json() {
        let line = safe_json("{\"name\":\"a\u{202e}b\u{e0041}\"}");
        assert_eq!(line, r#"{"name":"a\u202eb\udb40\udc41"}"#);
        let value: serde_json::Value = serde_json::from_str(&line).unwrap();
        assert_eq!(value["name"], "a\u{202e}b\u{e0041}");
    }
}
