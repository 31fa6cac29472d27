//! Placeholders in texts that each unit gets its own version of: `{n}`, `{n:02}`, `{unit}`,
//! `{address}`, `{my.site}`.

use std::fmt::Write;

/// Why a text cannot be filled.
#[derive(Clone, Debug, PartialEq, Eq)]
pub(crate) enum Filling {
    /// A brace without its counterpart.
    Brace,
    /// No such placeholder; the known ones.
    Unknown(String, Vec<String>),
    /// The width is not a number, or the value is none.
    Width(String),
}

impl Filling {
    /// What is wrong, and what would be right.
    pub(crate) fn words(&self) -> (String, String) {
        match self {
            Self::Brace => (
                "a brace without its counterpart".to_owned(),
                "{{ and }} stand for braces themselves".to_owned(),
            ),
            Self::Unknown(name, known) => (
                format!("there is no placeholder {{{name}}}"),
                format!("this unit has {}", known.join(", ")),
            ),
            Self::Width(text) => (
                format!("{{{text}}} has no valid width"),
                "as in {n:03}, for numbers".to_owned(),
            ),
        }
    }
}

/// The values of one unit's placeholders.
#[derive(Clone, Debug, Default)]
pub(crate) struct Values<'a> {
    values: Vec<(&'a str, String)>,
}

impl<'a> Values<'a> {
    /// Adds a placeholder.
    pub(crate) fn set(&mut self, name: &'a str, value: impl Into<String>) {
        self.values.push((name, value.into()));
    }

    /// The text with all placeholders replaced.
    pub(crate) fn fill(&self, text: &str) -> Result<String, Filling> {
        let mut filled = String::with_capacity(text.len());
        let mut rest = text;
        while let Some(at) = rest.find(['{', '}']) {
            filled.push_str(&rest[..at]);
            let brace = &rest[at..];
            if brace.starts_with("{{") || brace.starts_with("}}") {
                filled.push_str(&brace[..1]);
                rest = &brace[2..];
                continue;
            }
            let end = brace.find('}').filter(|_| brace.starts_with('{'));
            let end = end.ok_or(Filling::Brace)?;
            self.put(&brace[1..end], &mut filled)?;
            rest = &brace[end + 1..];
        }
        filled.push_str(rest);
        Ok(filled)
    }

    fn put(&self, text: &str, filled: &mut String) -> Result<(), Filling> {
        let (name, width) = match text.split_once(':') {
            Some((name, width)) => (name, Some(width)),
            None => (text, None),
        };
        let known = self.values.iter().find(|(known, _)| *known == name);
        let Some((_, value)) = known else {
            let names = self.values.iter().map(|(name, _)| format!("{{{name}}}"));
            return Err(Filling::Unknown(name.to_owned(), names.collect()));
        };
        let Some(width) = width else {
            filled.push_str(value);
            return Ok(());
        };
        let wrong = || Filling::Width(text.to_owned());
        let digits: usize = width.parse().map_err(|_| wrong())?;
        let number: u64 = value.parse().map_err(|_| wrong())?;
        if digits > 20 {
            return Err(wrong());
        }
        write!(filled, "{number:0digits$}").map_err(|_| wrong())
    }
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn values() -> Values<'static> {
        let mut values = Values::default();
        values.set("n", "7");
        values.set("unit", "larkfell-07");
        values
    }

    #[rstest]
    #[case("larkfell-{n:02}", "larkfell-07")]
    #[case("10.77.{n}.10/24", "10.77.7.10/24")]
    #[case("{unit}.huts {{n}}", "larkfell-07.huts {n}")]
    #[case("no braces", "no braces")]
    fn placeholders_are_filled(#[case] text: &str, #[case] filled: &str) {
        assert_eq!(values().fill(text).as_deref(), Ok(filled));
    }

    #[rstest]
    #[case("{n", Filling::Brace)]
    #[case("n}", Filling::Brace)]
    #[case("{n:x}", Filling::Width("n:x".to_owned()))]
    #[case("{unit:02}", Filling::Width("unit:02".to_owned()))]
    #[case("{n:99}", Filling::Width("n:99".to_owned()))]
    fn mistakes_are_told(#[case] text: &str, #[case] wrong: Filling) {
        assert_eq!(values().fill(text), Err(wrong));
    }

    #[test]
    fn an_unknown_placeholder_names_the_known_ones() {
        let wrong = values().fill("{number}");
        let known = vec!["{n}".to_owned(), "{unit}".to_owned()];
        assert_eq!(wrong, Err(Filling::Unknown("number".to_owned(), known)));
    }
}
