//! Host names.

use crate::document::Wrong;

/// RFC 1123, section 2.1: labels of letters, digits and hyphens, 1 to 63 characters, no hyphen at
/// either end. Linux takes 64 characters in all.
pub(crate) fn host_name(name: &str) -> Result<String, Wrong> {
    let wrong = |what: String| {
        let suggestion = suggest(name);
        Err(Wrong::new(
            what,
            format!("for example \"{suggestion}\": letters, digits and inner hyphens"),
        ))
    };
    if name.is_empty() {
        return wrong("the host name is empty".into());
    }
    if name == "localhost" {
        return wrong("the host name is localhost, which every unit answers to".into());
    }
    if name.len() > 64 {
        return wrong(format!(
            "the host name has {} characters; 64 are allowed",
            name.len()
        ));
    }
    for label in name.split('.') {
        let bad = label
            .chars()
            .find(|c| !c.is_ascii_alphanumeric() && *c != '-');
        if let Some(bad) = bad {
            return wrong(format!(
                "`{}` is not allowed in a host name",
                bad.escape_default()
            ));
        }
        if label.is_empty() || label.len() > 63 {
            return wrong(format!(
                "a part of the host name has {} characters; 1 to 63 are allowed",
                label.len()
            ));
        }
        if label.starts_with('-') || label.ends_with('-') {
            return wrong(format!("`{label}` starts or ends with a hyphen"));
        }
    }
    Ok(name.to_owned())
}

/// The name with all forbidden characters replaced.
fn suggest(name: &str) -> String {
    let replaced: String = name
        .to_lowercase()
        .chars()
        .map(|c| if c.is_ascii_alphanumeric() { c } else { '-' })
        .take(63)
        .collect();
    let trimmed = replaced.trim_matches('-');
    if trimmed.is_empty() || trimmed == "localhost" {
        "larkfell-03".to_owned()
    } else {
        trimmed.to_owned()
    }
}
