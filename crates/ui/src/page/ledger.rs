//! The page of the ledger: units, media and their pace, units per day, what is not commissioned yet.
//! One file without anything from outside.

use std::collections::BTreeMap;

use maud::{Markup, PreEscaped, html};
use pinewrit_ledger::{Entry, Record};
use plotters::prelude::*;

use super::charts::{Drawn, svg};
use super::{STYLE, document};
use crate::text::printable;
use crate::units;

/// Width and height of a drawing.
const SIZE: (u32, u32) = (560, 260);
/// The most models of media that are drawn.
const MAX_MODELS: usize = 12;
/// The most days that are drawn.
const MAX_DAYS: usize = 60;
/// There is room for at least so many days.
const LEAST_DAYS: usize = 7;
/// The most failures that are listed.
const MAX_FAILURES: usize = 200;

const MORE_STYLE: &str = "
input { font: inherit; padding: 6px 10px; border: 1px solid var(--line); border-radius: 6px; width: 320px; max-width: 100%; }
th.sorts { cursor: pointer; user-select: none; }
th.sorts:hover { color: var(--ink); }
td.late { color: var(--soft); }
.scroll { overflow-x: auto; }
tbody tr:hover { background: #f5f7f4; }
";

/// Search and sorting, for people who open the page.
const SCRIPT: &str = "
const rows = Array.from(document.querySelectorAll('#units tbody tr'));
const found = document.getElementById('found');
document.getElementById('search').addEventListener('input', (event) => {
  const words = event.target.value.toLowerCase().split(/\\s+/).filter(Boolean);
  let count = 0;
  for (const row of rows) {
    const text = row.textContent.toLowerCase();
    const fits = words.every((word) => text.includes(word));
    row.hidden = !fits;
    count += fits ? 1 : 0;
  }
  found.textContent = words.length ? count + ' of ' + rows.length : '';
});
document.querySelectorAll('#units th').forEach((head, column) => {
  head.classList.add('sorts');
  head.addEventListener('click', () => {
    const up = head.dataset.up !== 'true';
    head.dataset.up = up;
    const key = (row) => row.children[column].textContent;
    rows.sort((a, b) => key(a).localeCompare(key(b), undefined, { numeric: true }) * (up ? 1 : -1));
    const body = document.querySelector('#units tbody');
    rows.forEach((row) => body.appendChild(row));
  });
});
";

/// What the page shows. Times are told by `time`, days by its first ten characters.
pub struct LedgerPage<'p> {
    /// The ledger's place, or the batch's name.
    pub title: &'p str,
    /// All media that were made, the latest first.
    pub records: &'p [Record],
    /// Media that failed, the latest first.
    pub failures: &'p [Entry],
    /// A time in words, beginning with the day: `2026-11-28 14:02`.
    pub time: &'p dyn Fn(i64) -> String,
}

impl LedgerPage<'_> {
    /// The page. Names come from media and files: none of them becomes markup.
    pub fn html(&self) -> String {
        let body = html! {
            main {
                section {
                    h1 { (printable(self.title)) }
                    (self.tiles())
                    div.charts {
                        div { h2 { "Media per day" } (PreEscaped(self.days())) }
                        div { h2 { "Write rate by model" } (PreEscaped(self.pace())) }
                    }
                }
                section { (self.units()) }
                @if !self.failures.is_empty() { section.failed { (self.failed()) } }
            }
            script { (PreEscaped(SCRIPT)) }
        };
        document(self.title, &[STYLE, MORE_STYLE], &body)
    }

    fn tiles(&self) -> Markup {
        let units = self
            .records
            .iter()
            .filter_map(|record| record.unit.as_ref().or(record.host_name.as_ref()));
        let units: std::collections::BTreeSet<&String> = units.collect();
        let late = self
            .records
            .iter()
            .filter(|record| record.commissioned.is_none())
            .count();
        let written = self
            .records
            .iter()
            .filter_map(|record| record.written_bytes);
        let written: u64 = written.filter_map(|bytes| u64::try_from(bytes).ok()).sum();
        let tiles = [
            (units::grouped(self.records.len() as u64), "media made"),
            (units::grouped(units.len() as u64), "units"),
            (units::grouped(self.failures.len() as u64), "failed"),
            (units::grouped(late as u64), "not commissioned yet"),
            (units::size(written), "written"),
        ];
        html! {
            div.tiles {
                @for (number, what) in tiles {
                    div.tile { b { (number) } span { (what) } }
                }
            }
        }
    }

    fn units(&self) -> Markup {
        let text = |text: &Option<String>| printable(text.as_deref().unwrap_or("-"));
        html! {
            h2 { "Units" }
            p { input #search type="search" placeholder="search: host name, address, tag …"; " " span #found .legend {} }
            div.scroll {
                table #units {
                    thead {
                        tr {
                            th { "unit" } th { "finished" } th { "addresses" } th { "medium" } th { "model" }
                            th { "image" } th { "station" } th { "read back" } th { "commissioned" } th { "record" }
                        }
                    }
                    tbody {
                        @for record in self.records {
                            tr {
                                td { b { (printable(&unit(record))) } }
                                td { ((self.time)(record.time)) }
                                td { (text(&record.addresses)) }
                                td { code { (text(&record.tag)) } }
                                td { (text(&record.model)) }
                                td { (text(&record.image)) }
                                td { (text(&record.station)) }
                                td { @if record.verified { "verified" } @else { "not verified" } }
                                @match record.commissioned {
                                    Some(time) => td { ((self.time)(time)) },
                                    None => td.late { "not yet" },
                                }
                                td { code { (record.id.get(..8).unwrap_or(&record.id)) } }
                            }
                        }
                    }
                }
            }
        }
    }

    fn failed(&self) -> Markup {
        html! {
            h2 { "Failures" }
            table {
                thead { tr { th { "when" } th { "medium" } th { "unit" } th { "why" } th { "station" } } }
                tbody {
                    @for event in self.failures.iter().take(MAX_FAILURES) {
                        tr {
                            td { ((self.time)(event.time)) }
                            td { code { (printable(event.tag.as_deref().unwrap_or("-"))) } }
                            td { (printable(event.unit.as_deref().unwrap_or("-"))) }
                            td { (printable(event.remark.as_deref().unwrap_or("-"))) }
                            td { (printable(event.station.as_deref().unwrap_or("-"))) }
                        }
                    }
                }
            }
        }
    }

    /// Made and failed media of each day, as bars.
    fn days(&self) -> String {
        let mut days: BTreeMap<String, (u32, u32)> = BTreeMap::new();
        let day = |time: i64| (self.time)(time).chars().take(10).collect::<String>();
        for record in self.records {
            days.entry(day(record.time)).or_default().0 += 1;
        }
        for event in self.failures {
            days.entry(day(event.time)).or_default().1 += 1;
        }
        let skipped = days.len().saturating_sub(MAX_DAYS);
        let days: Vec<(String, (u32, u32))> = days.into_iter().skip(skipped).collect();
        svg(SIZE, |area| bars(area, &days))
    }

    /// The rates at which media of each model were written: smallest, quartiles, largest.
    fn pace(&self) -> String {
        let mut models: BTreeMap<String, Vec<f64>> = BTreeMap::new();
        for record in self.records {
            let (Some(bytes), Some(millis)) = (record.written_bytes, record.write_millis) else {
                continue;
            };
            if millis > 0 && bytes > 0 {
                let model = record
                    .model
                    .clone()
                    .unwrap_or_else(|| "card file".to_owned());
                let rate = bytes as f64 / millis as f64 / 1000.0;
                models.entry(printable(&model)).or_default().push(rate);
            }
        }
        let mut models: Vec<(String, Vec<f64>)> = models.into_iter().collect();
        models.sort_by_key(|(_, rates)| std::cmp::Reverse(rates.len()));
        models.truncate(MAX_MODELS);
        svg(SIZE, |area| boxes(area, &models))
    }
}

fn unit(record: &Record) -> String {
    let name = record
        .unit
        .as_deref()
        .or(record.host_name.as_deref())
        .unwrap_or("-");
    match &record.role {
        Some(role) => format!("{name} {role}"),
        None => name.to_owned(),
    }
}

type Area<'a> = DrawingArea<SVGBackend<'a>, plotters::coord::Shift>;

const MADE: RGBColor = RGBColor(0x2f, 0x7d, 0x5b);
const FAILED: RGBColor = RGBColor(0xc8, 0x45, 0x2f);
const SOFT: RGBColor = RGBColor(0x5c, 0x6b, 0x66);
const LINE: RGBColor = RGBColor(0xd9, 0xe0, 0xdc);

fn bars(area: &Area<'_>, days: &[(String, (u32, u32))]) -> Drawn {
    let most = days
        .iter()
        .map(|(_, (made, failed))| made + failed)
        .max()
        .unwrap_or(1);
    // A few days are not drawn as walls.
    let count = days.len().max(LEAST_DAYS);
    let mut chart = ChartBuilder::on(area)
        .margin(6)
        .x_label_area_size(30)
        .y_label_area_size(44)
        .build_cartesian_2d(0.0..count as f64, 0.0..f64::from(most) * 1.1)?;
    let name = |x: &f64| {
        let index = x.floor() as usize;
        let is_middle = (x.fract() - 0.5).abs() < 0.01;
        let day = days.get(index).filter(|_| is_middle);
        day.map_or(String::new(), |(day, _)| day.clone())
    };
    let label = ("sans-serif", 13).into_font().color(&SOFT);
    chart
        .configure_mesh()
        .disable_x_mesh()
        .light_line_style(TRANSPARENT)
        .bold_line_style(LINE)
        .axis_style(LINE)
        .x_labels(0)
        .y_labels(5)
        .y_label_formatter(&|y| format!("{y:.0}"))
        .label_style(label.clone())
        .draw()?;
    for (index, (_, (made, failed))) in days.iter().enumerate() {
        let (left, right) = (index as f64 + 0.2, index as f64 + 0.8);
        let made = f64::from(*made);
        let top = made + f64::from(*failed);
        chart.draw_series([
            Rectangle::new([(left, 0.0), (right, made)], MADE.filled()),
            Rectangle::new([(left, made), (right, top)], FAILED.filled()),
        ])?;
    }
    // As many days are named as have room.
    let every = count.div_ceil(6);
    for index in (0..count).step_by(every) {
        let x = index as f64 + 0.5;
        let (across, down) = chart.backend_coord(&(x, 0.0));
        let text = name(&x);
        let width = i32::try_from(text.len()).unwrap_or(0) * 3;
        area.draw(&Text::new(text, (across - width, down + 10), label.clone()))?;
    }
    Ok(())
}

fn quartile(sorted: &[f64], share: f64) -> f64 {
    let place = share * (sorted.len().saturating_sub(1)) as f64;
    let (low, high) = (place.floor() as usize, place.ceil() as usize);
    let at = |index: usize| sorted.get(index).copied().unwrap_or(0.0);
    at(low) + (at(high) - at(low)) * place.fract()
}

fn boxes(area: &Area<'_>, models: &[(String, Vec<f64>)]) -> Drawn {
    let most = models
        .iter()
        .flat_map(|(_, rates)| rates)
        .copied()
        .fold(1.0, f64::max);
    let count = models.len().max(1);
    let mut chart = ChartBuilder::on(area)
        .margin(6)
        .margin_right(20)
        .x_label_area_size(30)
        .y_label_area_size(150)
        .build_cartesian_2d(0.0..most * 1.05, 0.0..count as f64)?;
    let label = ("sans-serif", 13).into_font().color(&SOFT);
    chart
        .configure_mesh()
        .disable_y_mesh()
        .light_line_style(TRANSPARENT)
        .bold_line_style(LINE)
        .axis_style(LINE)
        .y_labels(0)
        .x_labels(6)
        .x_label_formatter(&|x| format!("{x:.0} MB/s"))
        .label_style(label.clone())
        .draw()?;
    for (index, (name, rates)) in models.iter().enumerate() {
        let mut sorted = rates.clone();
        sorted.sort_by(f64::total_cmp);
        let at = |share: f64| quartile(&sorted, share);
        let middle = count as f64 - index as f64 - 0.5;
        let half = 0.22;
        chart.draw_series([
            PathElement::new([(at(0.0), middle), (at(1.0), middle)], SOFT.stroke_width(1)),
            PathElement::new(
                [(at(0.5), middle - half), (at(0.5), middle + half)],
                MADE.stroke_width(3),
            ),
        ])?;
        let shape = [(at(0.25), middle - half), (at(0.75), middle + half)];
        chart.draw_series([Rectangle::new(shape, MADE.mix(0.35).filled())])?;
        let (_, down) = chart.backend_coord(&(0.0, middle));
        let shown: String = name.chars().take(20).collect();
        let text = format!("{shown} ({})", rates.len());
        area.draw(&Text::new(text, (8, down - 6), label.clone()))?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    fn record(unit: &str) -> Record {
        Record {
            id: "0a1b2c3d-0000".to_owned(),
            unit: Some(unit.to_owned()),
            model: Some("Moraine Scree".to_owned()),
            time: 1_795_862_400,
            written_bytes: Some(40_000_000),
            write_millis: Some(1000),
            verified: true,
            ..Record::default()
        }
    }

    #[test]
    fn names_do_not_become_markup_and_nothing_is_from_outside() {
        let records = [record("larkfell-01"), record("<script>alert(1)</script>")];
        let page = LedgerPage {
            title: "huts & <b>sheds</b>",
            records: &records,
            failures: &[],
            time: &|_| "2026-11-28 14:02".to_owned(),
        };
        let html = page.html();
        assert!(html.contains("huts &amp; &lt;b&gt;sheds"));
        assert!(!html.contains("<script>alert"));
        let outside = ["http://", "https://", "src=", "@import", "url("];
        let svg = html.replace("xmlns=\"http://www.w3.org/2000/svg\"", "");
        assert!(outside.iter().all(|word| !svg.contains(word)));
        assert!(html.contains("40 MB/s") && html.contains("2026-11-28"));
    }

    #[test]
    fn an_empty_ledger_has_a_page() {
        let page = LedgerPage {
            title: "empty",
            records: &[],
            failures: &[],
            time: &|_| String::new(),
        };
        assert!(page.html().contains("media made"));
    }

    #[test]
    fn quartiles_are_those_of_the_sorted_values() {
        let sorted = [1.0, 2.0, 3.0, 4.0, 5.0];
        let found = [0.0, 0.25, 0.5, 0.75, 1.0].map(|share| quartile(&sorted, share));
        assert_eq!(found, sorted);
        assert_eq!(quartile(&[7.0], 0.75), 7.0);
    }
}
