//! What a card in the computer's own reader says of itself, and the mode that its host uses.

/// What an SD card promises (SD Physical Layer Simplified Specification 9.10, section 4.10.2, "SD
/// Status"); 0 where it promises nothing.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq)]
pub struct SdClasses {
    /// Speed class: 2, 4, 6 or 10.
    pub class: u32,
    /// UHS speed grade: 1 or 3.
    pub grade: u32,
    /// Video speed class: 6 to 90.
    pub video: u32,
    /// Application performance class: 1 or 2.
    pub application: u32,
}

impl SdClasses {
    /// From the register as the kernel prints it: 64 bytes in hexadecimal digits, the highest bits
    /// first.
    pub(crate) fn parse(register: &str) -> Option<Self> {
        let byte = |index: usize| {
            let digits = register.get(index * 2..index * 2 + 2)?;
            u32::from_str_radix(digits, 16).ok()
        };
        byte(63)?;
        // Bits 447:440, 399:396, 391:384 and 339:336 of 511:0.
        Some(Self {
            class: match byte(8)? {
                1 => 2,
                2 => 4,
                3 => 6,
                4 => 10,
                _ => 0,
            },
            grade: known(byte(14)? >> 4, &[1, 3]),
            video: known(byte(15)?, &[6, 10, 30, 60, 90]),
            application: known(byte(21)? & 0xf, &[1, 2]),
        })
    }
}

fn known(value: u32, values: &[u32]) -> u32 {
    let mut all = values.iter();
    all.find(|one| **one == value).copied().unwrap_or(0)
}

/// How a card is connected: as fast as both its host and it can.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct CardMode {
    /// Its name: `SDR104`, `high-speed`, `HS400`.
    pub name: String,
    /// What it carries in practice, in bytes a second.
    pub carries: u64,
}

impl CardMode {
    /// From what the kernel tells those who look for faults: clock, width and timing of the host.
    pub(crate) fn parse(told: &str) -> Option<Self> {
        let value = |key: &str| {
            let mut lines = told.lines().filter_map(|line| line.split_once(':'));
            lines
                .find(|(name, _)| *name == key)
                .map(|(_, text)| text.trim())
        };
        let clock = value("actual clock").or_else(|| value("clock"))?;
        let clock: u64 = clock.strip_suffix(" Hz")?.parse().ok()?;
        let in_brackets = |text: &'_ str| {
            let (_, rest) = text.split_once('(')?;
            Some(rest.strip_suffix(')')?.to_owned())
        };
        let width = in_brackets(value("bus width")?)?;
        let width: u64 = width.strip_suffix(" bits")?.parse().ok()?;
        let timing = in_brackets(value("timing spec")?)?;
        let name = timing.rsplit(' ').next()?.to_owned();
        let is_double = name.contains("DDR") || name.contains("HS400");
        let gross = clock.checked_mul(width)? / 8 * if is_double { 2 } else { 1 };
        let name = match timing.as_str() {
            "legacy" => "default speed".to_owned(),
            "mmc high-speed" | "sd high-speed" => "high speed".to_owned(),
            _ => name,
        };
        // Commands, responses and checksums take the rest.
        Some(Self {
            name,
            carries: gross / 10 * 9,
        })
        .filter(|mode| mode.carries > 0)
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use rstest::rstest;

    /// A register of 64 bytes with these.
    fn register(bytes: &[(usize, u8)]) -> String {
        let mut all = [0; 64];
        for (index, byte) in bytes {
            all[*index] = *byte;
        }
        all.iter().map(|byte| format!("{byte:02x}")).collect()
    }

    #[test]
    fn what_a_card_promises() {
        let text = register(&[(0, 0x80), (8, 4), (14, 0x39), (15, 30), (21, 0xf1)]);
        let found = SdClasses::parse(&text).unwrap();
        let expected = SdClasses {
            class: 10,
            grade: 3,
            video: 30,
            application: 1,
        };
        assert_eq!(found, expected);
        // What future cards may say is no promise that is known today.
        let later = register(&[(8, 9), (14, 0x70), (15, 200), (21, 5)]);
        assert_eq!(SdClasses::parse(&later), Some(SdClasses::default()));
        assert_eq!(SdClasses::parse("80"), None);
        assert_eq!(SdClasses::parse(&"x".repeat(128)), None);
    }

    const TOLD: &str = "clock:\t\t208000000 Hz\nactual clock:\t200000000 Hz\nvdd:\t\t21 (3.3 ~ 3.4 V)\n\
        bus mode:\t2 (push-pull)\nchip select:\t0 (don't care)\npower mode:\t2 (on)\n\
        bus width:\t2 (4 bits)\ntiming spec:\t6 (sd uhs SDR104)\nsignal voltage:\t1 (1.80 V)\n";

    #[rstest]
    #[case(TOLD, Some(("SDR104", 90_000_000)))]
    #[case("clock:\t50000000 Hz\nbus width:\t2 (4 bits)\ntiming spec:\t2 (sd high-speed)\n",
        Some(("high speed", 22_500_000)))]
    #[case("clock:\t200000000 Hz\nbus width:\t3 (8 bits)\ntiming spec:\t10 (mmc HS400)\n",
        Some(("HS400", 360_000_000)))]
    #[case("clock:\t50000000 Hz\nbus width:\t2 (4 bits)\ntiming spec:\t7 (sd uhs DDR50)\n",
        Some(("DDR50", 45_000_000)))]
    #[case(
        "clock:\t0 Hz\nbus width:\t0 (1 bits)\ntiming spec:\t0 (legacy)\n",
        None
    )]
    #[case(
        "clock:\t18446744073709551615 Hz\nbus width:\t3 (8 bits)\ntiming spec:\t0 (legacy)\n",
        None
    )]
    #[case("", None)]
    fn the_mode_of_a_host(#[case] told: &str, #[case] expected: Option<(&str, u64)>) {
        let found = CardMode::parse(told);
        let found = found.as_ref().map(|mode| (&*mode.name, mode.carries));
        assert_eq!(found, expected);
    }
}
