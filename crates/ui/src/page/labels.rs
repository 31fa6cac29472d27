//! Labels: a sheet of them as a page to be printed, sizes in millimetres, each with a code that a
//! phone reads.

use crate::page::document;
use maud::{Markup, PreEscaped, html};
use pinewrit_ledger::Record;
use qrcode::{EcLevel, QrCode, types::Color};
use serde::Serialize;

use crate::text::printable;

/// A sheet of labels.
#[derive(Clone, Debug)]
pub struct LabelSheet {
    /// Labels beside each other.
    pub columns: u32,
    /// Labels below each other.
    pub rows: u32,
    /// Width and height of a label, in millimetres.
    pub size: (f64, f64),
    /// Width and height of the sheet, in millimetres.
    pub paper: (f64, f64),
    /// The address in the code, with `{unit}`, `{record}` …; JSON if there is none.
    pub address: Option<String>,
}

impl Default for LabelSheet {
    /// A4 (ISO 216) with labels that fit beside a board.
    fn default() -> Self {
        Self {
            columns: 3,
            rows: 8,
            size: (64.0, 34.0),
            paper: (210.0, 297.0),
            address: None,
        }
    }
}

/// What a code says, in this order.
#[derive(Serialize)]
struct Code<'r> {
    pinewrit: u32,
    unit: &'r str,
    host: Option<&'r str>,
    address: &'r str,
    tag: Option<&'r str>,
    record: &'r str,
}

/// The text of a label's code: JSON, or an address with the record's values in it.
pub fn code_text(record: &Record, address: Option<&str>) -> String {
    let unit = record
        .unit
        .as_deref()
        .or(record.host_name.as_deref())
        .unwrap_or_default();
    let first = record
        .addresses
        .as_deref()
        .unwrap_or_default()
        .split(' ')
        .next();
    let first = first
        .unwrap_or_default()
        .split('/')
        .next()
        .unwrap_or_default();
    match address {
        Some(template) => {
            let values = [
                ("{unit}", unit),
                (
                    "{host-name}",
                    record.host_name.as_deref().unwrap_or_default(),
                ),
                ("{address}", first),
                ("{tag}", record.tag.as_deref().unwrap_or_default()),
                ("{record}", short(&record.id)),
            ];
            let fill = |text: String, (name, value): &(&str, &str)| text.replace(name, value);
            values.iter().fold(template.to_owned(), fill)
        }
        None => serde_json::to_string(&Code {
            pinewrit: 1,
            unit,
            host: record.host_name.as_deref(),
            address: first,
            tag: record.tag.as_deref(),
            record: short(&record.id),
        })
        .unwrap_or_default(),
    }
}

/// As much of an identifier as names a record: a short code is read from farther away.
fn short(id: &str) -> &str {
    id.get(..8).unwrap_or(id)
}

impl LabelSheet {
    /// Whether the labels fit on the paper.
    pub fn fits(&self) -> bool {
        let (width, height) = self.size;
        f64::from(self.columns) * width <= self.paper.0
            && f64::from(self.rows) * height <= self.paper.1
    }

    /// The page, ready to be printed. Days are told by `day`.
    pub fn html(&self, records: &[Record], day: &dyn Fn(i64) -> String) -> String {
        let per_sheet = (self.columns * self.rows).max(1) as usize;
        let body = html! {
            @for sheet in records.chunks(per_sheet) {
                div.sheet {
                    @for record in sheet { (self.label(record, day)) }
                }
            }
        };
        document("Labels", &[&self.style()], &body)
    }

    fn style(&self) -> String {
        let (width, height) = self.size;
        let (paper_width, paper_height) = self.paper;
        let across = (paper_width - f64::from(self.columns) * width) / 2.0;
        let down = (paper_height - f64::from(self.rows) * height) / 2.0;
        let columns = self.columns;
        let code = (height - 6.0).min(width * 0.42);
        format!(
            "@page {{ size: {paper_width}mm {paper_height}mm; margin: 0; }}\n\
             * {{ box-sizing: border-box; margin: 0; }}\n\
             body {{ font: 8pt/1.25 'DejaVu Sans', sans-serif; color: #000; background: #fff; }}\n\
             .sheet {{ width: {paper_width}mm; height: {paper_height}mm; padding: {down}mm {across}mm; \
             display: grid; grid-template-columns: repeat({columns}, {width}mm); \
             grid-auto-rows: {height}mm; break-after: page; overflow: hidden; }}\n\
             .label {{ width: {width}mm; height: {height}mm; padding: 3mm; display: flex; gap: 2mm; \
             overflow: hidden; border: 0.1mm dashed #bbb; }}\n\
             .label svg {{ width: {code}mm; height: {code}mm; flex: none; }}\n\
             .label b {{ font-size: 11pt; display: block; overflow-wrap: anywhere; }}\n\
             .label div {{ overflow: hidden; min-width: 0; }}\n\
             .label p {{ white-space: nowrap; }}\n\
             @media print {{ .label {{ border: none; }} }}\n"
        )
    }

    fn label(&self, record: &Record, day: &dyn Fn(i64) -> String) -> Markup {
        let text = code_text(record, self.address.as_deref());
        let unit = record
            .unit
            .as_deref()
            .or(record.host_name.as_deref())
            .unwrap_or("-");
        let host = record.host_name.as_deref().filter(|host| *host != unit);
        let addresses = record.addresses.as_deref().unwrap_or_default().split(' ');
        let addresses = addresses.map(|net| net.split('/').next().unwrap_or(net));
        let image = record.image.as_deref().unwrap_or_default();
        html! {
            div.label {
                (PreEscaped(code(&text)))
                div {
                    b { (printable(unit)) }
                    @if let Some(role) = &record.role { p { (printable(role)) } }
                    @if let Some(host) = host { p { (printable(host)) } }
                    @for address in addresses.take(2) { p { (printable(address)) } }
                    p { (printable(record.tag.as_deref().unwrap_or_default())) " · " (day(record.time)) }
                    p { (printable(image)) }
                }
            }
        }
    }
}

/// A code (ISO/IEC 18004) as SVG, with the quiet zone around it.
fn code(text: &str) -> String {
    let Ok(code) = QrCode::with_error_correction_level(text, EcLevel::M) else {
        return String::new();
    };
    let width = code.width();
    let whole = width + 8;
    let mut path = String::new();
    for (index, color) in code.to_colors().into_iter().enumerate() {
        if color == Color::Dark {
            let (x, y) = (index % width + 4, index / width + 4);
            path += &format!("M{x} {y}h1v1h-1z");
        }
    }
    format!(
        "<svg xmlns=\"http://www.w3.org/2000/svg\" viewBox=\"0 0 {whole} {whole}\" \
         shape-rendering=\"crispEdges\"><rect width=\"{whole}\" height=\"{whole}\" fill=\"#fff\"/>\
         <path d=\"{path}\" fill=\"#000\"/></svg>"
    )
}

#[cfg(test)]
mod tests {
    use rstest::rstest;

    use super::*;

    fn record() -> Record {
        Record {
            id: "0a1b2c3d".to_owned(),
            unit: Some("larkfell-07".to_owned()),
            host_name: Some("larkfell-07".to_owned()),
            addresses: Some("10.77.7.10/24 2001:db8::7/64".to_owned()),
            tag: Some("K7F2".to_owned()),
            ..Record::default()
        }
    }

    #[rstest]
    #[case(
        Some("http://desk.example/u/{unit}?a={address}&t={tag}"),
        "http://desk.example/u/larkfell-07?a=10.77.7.10&t=K7F2"
    )]
    #[case(
        None,
        "{\"pinewrit\":1,\"unit\":\"larkfell-07\",\"host\":\"larkfell-07\",\"address\":\"10.77.7.10\",\"tag\":\"K7F2\",\"record\":\"0a1b2c3d\"}"
    )]
    fn the_code_names_the_unit(#[case] address: Option<&str>, #[case] wanted: &str) {
        assert_eq!(code_text(&record(), address), wanted);
    }

    #[test]
    fn labels_that_do_not_fit_on_the_paper_are_noticed() {
        let sheet = LabelSheet::default();
        assert!(sheet.fits());
        assert!(
            !LabelSheet {
                columns: 4,
                ..sheet
            }
            .fits()
        );
    }

    #[test]
    fn each_sheet_has_as_many_labels_as_it_has_places() {
        let records = vec![record(); 25];
        let html = LabelSheet::default().html(&records, &|_| String::new());
        assert_eq!(html.matches("class=\"sheet\"").count(), 2);
        assert_eq!(html.matches("<svg").count(), 25);
    }
}
