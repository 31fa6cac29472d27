//! Sizes as people type them.

/// Reads a size: a number with `kB`, `MB`, `GB`, `TB` (decimal), `KiB`, `MiB`, `GiB`, `TiB`
/// (binary), `s` (sectors of 512 bytes), or bytes without a unit.
///
/// # Errors
/// What is wrong with it, in words.
pub fn parse_size(text: &str) -> Result<u64, String> {
    let text = text.trim();
    let split = text
        .find(|c: char| !c.is_ascii_digit() && c != '.')
        .unwrap_or(text.len());
    let (number, unit) = text.split_at(split);
    let factor: u64 = match unit.trim().to_ascii_lowercase().as_str() {
        "" | "b" => 1,
        "s" => 512,
        "kb" => 1000,
        "mb" => 1_000_000,
        "gb" => 1_000_000_000,
        "tb" => 1_000_000_000_000,
        "kib" => 1 << 10,
        "mib" => 1 << 20,
        "gib" => 1 << 30,
        "tib" => 1 << 40,
        _ => {
            let unit = unit.trim();
            return Err(format!("`{unit}` is no unit; use MB, GB, MiB, GiB or s"));
        }
    };
    let (whole, fraction) = number.split_once('.').unwrap_or((number, ""));
    let parsed = || {
        let whole = whole.parse::<u64>().ok()?.checked_mul(factor)?;
        let scale = 10u64.checked_pow(fraction.len() as u32)?;
        let part = match fraction {
            "" => 0,
            digits => digits.parse::<u64>().ok()?.checked_mul(factor)? / scale,
        };
        whole.checked_add(part)
    };
    match parsed() {
        Some(0) => Err("a size must be above 0".into()),
        Some(bytes) => Ok(bytes),
        None => Err(format!("`{text}` is no size; as in 8GB, 512MiB or 2048s")),
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    #[rstest]
    #[case("8GB", Ok(8_000_000_000))]
    #[case("512 MiB", Ok(512 << 20))]
    #[case("1.5gb", Ok(1_500_000_000))]
    #[case("2048s", Ok(1 << 20))]
    #[case("4096", Ok(4096))]
    #[case("8 GiB", Ok(8 << 30))]
    fn typed_sizes(#[case] text: &str, #[case] bytes: Result<u64, String>) {
        assert_eq!(parse_size(text), bytes);
    }

    #[rstest]
    fn no_sizes(
        #[values("", "GB", "8XB", "0", "-1", "1e9", "99999999999TB", "1.2.3GB")] text: &str,
    ) {
        assert!(parse_size(text).is_err());
    }
}
