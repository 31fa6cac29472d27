//! The drawings of the page, as SVG.

use pinewrit_core::receipt::Receipt;
use plotters::coord::Shift;
use plotters::prelude::*;

use super::Finished;
use super::pace::{Curve, SlowSpot, over_offset, over_time};
use crate::units;

const USED: RGBColor = RGBColor(47, 125, 91);
const FREE: RGBColor = RGBColor(207, 227, 216);
const OUTSIDE: RGBColor = RGBColor(236, 239, 241);
const INK: RGBColor = RGBColor(29, 42, 38);
const SOFT: RGBColor = RGBColor(92, 107, 102);
const LINE: RGBColor = RGBColor(222, 228, 225);
const READ: RGBColor = RGBColor(63, 111, 181);
const BAD: RGBColor = RGBColor(200, 69, 47);

/// Columns of the medium's map, and shades for how much of one is in use.
const COLUMNS: usize = 560;
const SHADES: u8 = 8;
/// The most points of a curve over time, and the least seconds per point.
const BINS: f64 = 160.0;
const SECONDS: f64 = 0.5;

pub(super) type Drawn = Result<(), Box<dyn std::error::Error>>;

/// Draws on a new SVG. A drawing that fails leaves a gap, but does not cost the page.
pub(super) fn svg(
    size: (u32, u32),
    draw: impl FnOnce(&DrawingArea<SVGBackend<'_>, Shift>) -> Drawn,
) -> String {
    let mut text = String::new();
    {
        let area = SVGBackend::with_string(&mut text, size).into_drawing_area();
        if draw(&area).is_err() || area.present().is_err() {
            return "<p class=\"legend\">could not be drawn</p>\n".to_owned();
        }
    }
    text
}

/// The medium to scale: used and free space, and the partitions.
pub(crate) fn medium(section: &Finished) -> String {
    svg((1120, 96), |area| {
        let receipt = &section.receipt;
        let size = receipt.medium.size.max(receipt.bytes.image).max(1);
        let x = |byte: u64| (byte as f64 / size as f64 * 1118.0) as i32 + 1;
        area.draw(&Rectangle::new([(1, 26), (1119, 70)], OUTSIDE.filled()))?;
        area.draw(&Rectangle::new(
            [(1, 26), (x(receipt.bytes.image), 70)],
            FREE.filled(),
        ))?;
        let shades: Vec<u8> = used_shares(receipt, size)
            .into_iter()
            .map(|share| (share * f64::from(SHADES)).ceil() as u8)
            .collect();
        let mut column = 0;
        for run in shades.chunk_by(|a, b| a == b) {
            let (from, to) = (1 + column * 2, 1 + (column + run.len() as i32) * 2);
            column += run.len() as i32;
            if run[0] > 0 {
                let color = USED.mix(0.2 + 0.8 * f64::from(run[0]) / f64::from(SHADES));
                area.draw(&Rectangle::new([(from, 26), (to, 70)], color.filled()))?;
            }
        }
        let style = ("sans-serif", 13).into_font().color(&INK);
        // Names are above, or below if there is no room.
        let mut free_from = [0, 0];
        let partitions = section
            .content
            .iter()
            .flat_map(|content| &content.partitions);
        for partition in partitions {
            let (from, to) = (x(partition.start), x(partition.range().end));
            area.draw(&Rectangle::new(
                [(from, 26), (to.max(from + 1), 70)],
                INK.stroke_width(1),
            ))?;
            let facts = partition.filesystem.as_ref();
            let kind = facts.map_or(partition.kind.word(), |facts| facts.kind.word());
            let label = facts.and_then(|facts| facts.label.as_ref());
            let label = label.map_or(String::new(), |label| format!(" \"{label}\""));
            let text = format!(
                "{} {kind}{label} {}",
                partition.number,
                units::size(partition.size)
            );
            if let Some(row) = free_from.iter().position(|free| from >= *free) {
                free_from[row] = from + text.len() as i32 * 8;
                let y = [9, 75][row];
                area.draw(&Text::new(text, (from, y), style.clone()))?;
            }
        }
        let soft = ("sans-serif", 12).into_font().color(&SOFT);
        let end = units::size(size);
        let place = (1117 - end.len() as i32 * 7, 76);
        area.draw(&Text::new(end, place, soft))?;
        Ok(())
    })
}

/// How much of each column's part of the medium is in use.
fn used_shares(receipt: &Receipt, size: u64) -> Vec<f64> {
    let width = size as f64 / COLUMNS as f64;
    let mut shares = vec![0.0; COLUMNS];
    for (start, end) in receipt.chunks.iter().flat_map(|chunk| &chunk.used) {
        let (start, end) = (*start as f64, *end as f64);
        let last = ((end / width).ceil() as usize).min(COLUMNS);
        for (column, share) in shares
            .iter_mut()
            .enumerate()
            .take(last)
            .skip((start / width) as usize)
        {
            let (from, to) = (column as f64 * width, (column + 1) as f64 * width);
            *share += (to.min(end) - from.max(start)).max(0.0) / width;
        }
    }
    shares
}

pub(crate) fn pace_over_offset(receipt: &Receipt, spots: &[SlowSpot]) -> String {
    let end = receipt.bytes.image.max(1);
    let written = over_offset(&receipt.pace_written);
    let read = over_offset(&receipt.pace_read);
    let marks: Vec<f64> = spots.iter().map(|spot| spot.offset as f64 / 1e9).collect();
    let scaled = |curve: Curve| {
        curve
            .into_iter()
            .map(|(at, rate)| (at / 1e9, rate))
            .collect()
    };
    pace(
        scaled(written),
        scaled(read),
        end as f64 / 1e9,
        "GB on the medium",
        &marks,
    )
}

pub(crate) fn pace_over_time(receipt: &Receipt) -> String {
    let points = receipt.pace_written.iter().chain(&receipt.pace_read);
    let end = points.map(|point| point.at).fold(0.1, f64::max);
    let bins = (end / SECONDS).clamp(4.0, BINS) as usize;
    let written = over_time(&receipt.pace_written, end, bins);
    let read = over_time(&receipt.pace_read, end, bins);
    pace(written, read, end, "seconds", &[])
}

/// Two curves of rates in MB/s, and marks at the foot.
fn pace(written: Curve, read: Curve, end: f64, what: &str, marks: &[f64]) -> String {
    let rates = written.iter().chain(&read).map(|(_, rate)| *rate);
    let top = rates.fold(1.0, f64::max) * 1.12;
    svg((540, 250), |area| {
        let mut chart = ChartBuilder::on(area)
            .margin(6)
            .x_label_area_size(36)
            .y_label_area_size(54)
            .build_cartesian_2d(0.0..end, 0.0..top)?;
        chart
            .configure_mesh()
            .disable_x_mesh()
            .bold_line_style(LINE)
            .light_line_style(TRANSPARENT)
            .axis_style(SOFT)
            .label_style(("sans-serif", 12).into_font().color(&SOFT))
            .x_desc(what)
            .y_desc("MB/s")
            .x_labels(8)
            .y_labels(6)
            .draw()?;
        chart.draw_series(AreaSeries::new(
            written.iter().copied(),
            0.0,
            USED.mix(0.15),
        ))?;
        chart.draw_series(LineSeries::new(written, USED.stroke_width(2)))?;
        chart.draw_series(LineSeries::new(read, READ.stroke_width(2)))?;
        let points = marks
            .iter()
            .map(|at| Circle::new((*at, 0.0), 4, BAD.filled()));
        chart.draw_series(points)?;
        Ok(())
    })
}

/// The requests of a measurement: megabytes done, and the rate of each.
pub(super) fn pace_of_pieces(written: &Curve, read: &Curve) -> String {
    let end = written.iter().chain(read).map(|(at, _)| *at);
    let end = end.fold(1.0, f64::max);
    pace(written.clone(), read.clone(), end, "MB", &[])
}

/// Two numbers of a medium.
pub(super) struct Bar {
    pub(super) name: String,
    pub(super) written: Option<f64>,
    pub(super) read: Option<f64>,
    pub(super) unit: &'static str,
}

/// Pairs of bars, one pair a medium, with their numbers.
pub(super) fn bars(all: &[Bar]) -> String {
    const ROW: i32 = 46;
    let numbers = all.iter().flat_map(|bar| [bar.written, bar.read]).flatten();
    let top = numbers.fold(1.0, f64::max);
    let height = ROW * all.len() as i32 + 8;
    svg((540, height as u32), |area| {
        let ink = ("sans-serif", 13).into_font().color(&INK);
        let soft = ("sans-serif", 12).into_font().color(&SOFT);
        for (bar, row) in all.iter().zip((4..).step_by(ROW as usize)) {
            let name: String = bar.name.chars().take(14).collect();
            area.draw(&Text::new(name, (2, row + 12), ink.clone()))?;
            for (number, color, y) in [(bar.written, USED, row), (bar.read, READ, row + 19)] {
                let Some(number) = number else { continue };
                let end = 118 + (number / top * 320.0) as i32;
                let place = [(118, y), (end.max(119), y + 15)];
                area.draw(&Rectangle::new(place, color.filled()))?;
                let text = match number {
                    small @ ..100.0 => format!("{small:.1} {}", bar.unit),
                    large => format!("{} {}", units::grouped(large as u64), bar.unit),
                };
                area.draw(&Text::new(text, (end + 6, y + 1), soft.clone()))?;
            }
        }
        Ok(())
    })
}
