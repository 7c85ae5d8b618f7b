//! A clip over time: a lane a channel, levels in dB, silence, loops and clipped places.

use super::{
    Area, BODY, CLIPPED, Drawn, GRID, INK, LOOP, Lines, PAPER, SILENT, WAVE, letters, mesh, said,
    shown,
};
use deft_needle_audio::measure::picture::{Column, Picture};
use deft_needle_audio::num::real_size;
use plotters::coord::types::RangedCoordf64;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};

/// A clip over time; all times in seconds.
pub struct Wave<'a> {
    /// What it shows.
    pub title: String,
    /// Its outline.
    pub picture: &'a Picture,
    /// How long it is.
    pub seconds: f64,
    /// How long the axis is.
    pub axis: f64,
    /// Silent stretches.
    pub silence: Vec<(f64, f64)>,
    /// Loops.
    pub loops: Vec<(f64, f64)>,
    /// Other loops that would do, the best first.
    pub candidates: Vec<(f64, f64)>,
}

/// The unit of a time axis of this many seconds, and its labels.
fn clock(axis: f64) -> (&'static str, fn(&f64) -> String) {
    match axis {
        axis if axis < 0.01 => ("milliseconds", |x| format!("{:.2}", 1000.0 * x)),
        axis if axis < 1.0 => ("milliseconds", |x| format!("{:.0}", 1000.0 * x)),
        axis if axis < 60.0 => ("seconds", |x| format!("{x:.1}")),
        _ => ("minutes:seconds", |x| {
            let seconds = x.round();
            format!("{:.0}:{:02.0}", (seconds / 60.0).floor(), seconds % 60.0)
        }),
    }
}
/// Further candidates share the rows of the first.
const CANDIDATE_ROWS: usize = 4;
/// More channels than this are drawn as one.
const MOST_LANES: usize = 8;

/// A channel's part of a wave, from top to bottom: where its middle lies where each is 2 high.
struct Lane<'a> {
    name: String,
    middle: f64,
    columns: &'a [Column],
}

/// Each channel on its own, or all as one where they are too many.
fn lanes(picture: &Picture) -> Vec<Lane<'_>> {
    let count = picture.channels.len();
    if !(2..=MOST_LANES).contains(&count) {
        return vec![Lane { name: String::new(), middle: 0.0, columns: &picture.columns }];
    }
    let lane = |(index, columns)| Lane {
        name: match (count, index) {
            (2, 0) => "L".to_owned(),
            (2, _) => "R".to_owned(),
            (_, index) => (index + 1).to_string(),
        },
        middle: real_size(count - 1) - 2.0 * real_size(index),
        columns: Vec::as_slice(columns),
    };
    picture.channels.iter().enumerate().map(lane).collect()
}

pub(super) fn paint(wave: &Wave<'_>, area: &Area<'_>) -> Drawn {
    let axis = wave.axis.max(1e-6);
    let lanes = lanes(wave.picture);
    let high = real_size(lanes.len());
    // Candidates have rows of their own beneath the wave.
    let row = 0.16 * high;
    let rows = wave.candidates.len().min(CANDIDATE_ROWS);
    let foot = -high - row * real_size(rows);
    let mut chart = ChartBuilder::on(area)
        .caption(shown(&wave.title), letters(20))
        .margin(14)
        .margin_right(30)
        .x_label_area_size(34)
        .y_label_area_size(56)
        .build_cartesian_2d(0.0..axis, foot..high)
        .map_err(said)?;
    let band = |(a, b): (f64, f64), color: RGBColor| {
        Rectangle::new([(a, -high), (b, high)], color.filled())
    };
    chart.draw_series(wave.silence.iter().map(|range| band(*range, SILENT))).map_err(said)?;
    let (unit, label) = clock(axis);
    let columns = &wave.picture.columns;
    let clipped = columns.iter().any(|column| column.clipped);
    let parts = [
        (wave.picture.samples.is_empty(), "light: peaks, dark: RMS"),
        (!wave.picture.samples.is_empty(), "a line through the samples"),
        (!wave.silence.is_empty(), "sand: silence"),
        (!wave.loops.is_empty(), "green: loop"),
        (!wave.candidates.is_empty(), "below, numbered: other candidates"),
        (clipped, "red: clipped"),
    ];
    let parts: Vec<&str> = parts.iter().filter(|part| part.0).map(|part| part.1).collect();
    let x = format!("{unit} ({})", parts.join(", "));
    mesh(&mut chart, (&x, &label), ("dBFS", &|_| String::new()), Lines::Upright)?;
    paint_levels(&lanes, axis, &mut chart, area)?;
    let step = wave.seconds / real_size(columns.len().max(1));
    for (channel, samples) in wave.picture.samples.iter().enumerate() {
        let middle = lanes.get(channel).map_or(0.0, |lane| lane.middle);
        let points = samples.iter().enumerate();
        let points =
            points.map(|(n, s)| ((real_size(n) + 0.5) * step, middle + s.clamp(-1.0, 1.0)));
        chart.draw_series(LineSeries::new(points.clone(), BODY.stroke_width(2))).map_err(said)?;
        if samples.len() < 200 {
            let dots = points.map(|point| Circle::new(point, 3, BODY.filled()));
            chart.draw_series(dots).map_err(said)?;
        }
    }
    for lane in lanes.iter().filter(|_| wave.picture.samples.is_empty()) {
        for (color, body) in [(WAVE, false), (BODY, true)] {
            let bars = lane.columns.iter().enumerate().map(|(i, column)| {
                let (low, high) = match body {
                    true => (-column.rms, column.rms),
                    false => (column.least, column.greatest),
                };
                let (x, y) = (real_size(i) * step, lane.middle);
                let corners = [(x, y + low.max(-1.0)), (x + step, y + high.min(1.0))];
                Rectangle::new(corners, color.filled())
            });
            chart.draw_series(bars).map_err(said)?;
        }
    }
    let line = |x: f64, color: RGBColor, width: u32| {
        PathElement::new(vec![(x, foot), (x, high)], color.stroke_width(width))
    };
    let ends = wave.loops.iter().flat_map(|(a, b)| [*a, *b]);
    chart.draw_series(ends.map(|x| line(x, LOOP, 2))).map_err(said)?;
    for (place, (a, b)) in wave.candidates.iter().enumerate() {
        let y = -high - row * (0.5 + real_size(place % CANDIDATE_ROWS));
        let bar = PathElement::new(vec![(*a, y), (*b, y)], LOOP.mix(0.8).stroke_width(3));
        chart.draw_series([bar]).map_err(said)?;
        // Beside its beginning, on paper, where nothing covers it.
        let (left, width) = (a + 0.004 * axis, 0.013 * axis);
        let corners = [(left, y - 0.45 * row), (left + width, y + 0.45 * row)];
        chart.draw_series([Rectangle::new(corners, PAPER.filled())]).map_err(said)?;
        let at = (left + 0.002 * axis, y + 0.42 * row);
        let number = Text::new((place + 2).to_string(), at, letters(13));
        chart.draw_series([number]).map_err(said)?;
    }
    for lane in &lanes {
        for edge in [-1.0, 1.0] {
            let clipped = lane.columns.iter().enumerate().filter(|(_, column)| column.clipped);
            let marks = clipped.map(|(i, _)| {
                let (x, y) = (real_size(i) * step, lane.middle);
                let wide = step.max(axis / 600.0);
                let corners = [(x, y + edge), (x + wide, y + edge * (1.0 - 0.07 * high))];
                Rectangle::new(corners, CLIPPED.filled())
            });
            chart.draw_series(marks).map_err(said)?;
        }
    }
    if columns.iter().all(|column| column.rms == 0.0) {
        let text = Text::new("silent", (axis / 2.0, 0.1), letters(20));
        chart.draw_series([text]).map_err(said)?;
    }
    Ok(())
}

/// Levels that the axis of a wave names, in dBFS, and how high they stand.
const LEVELS: [(&str, f64); 4] =
    [("0", 1.0), ("-3", 0.707_946), ("-6", 0.501_187), ("-12", 0.251_189)];

type WaveChart<'a, 'b> =
    ChartContext<'a, BitMapBackend<'b>, Cartesian2d<RangedCoordf64, RangedCoordf64>>;

/// Lines at round levels, their names to the left, and those of the channels to the right.
fn paint_levels(
    lanes: &[Lane<'_>],
    axis: f64,
    chart: &mut WaveChart<'_, '_>,
    area: &Area<'_>,
) -> Drawn {
    let (left, above) = area.get_pixel_range();
    let last = lanes.len() - 1;
    let pixels = chart.plotting_area().dim_in_pixel().1 / u32::try_from(lanes.len()).unwrap_or(1);
    for (index, lane) in lanes.iter().enumerate() {
        // As many as have room for their names.
        let named = LEVELS.iter().filter(|(name, _)| match pixels {
            200.. => true,
            110.. => *name != "-3",
            60.. => matches!(*name, "0" | "-6"),
            _ => *name == "0",
        });
        for (name, height) in named {
            for side in [1.0, -1.0] {
                let y = lane.middle + side * height;
                let line = PathElement::new(vec![(0.0, y), (axis, y)], GRID);
                chart.draw_series([line]).map_err(said)?;
                // Where two channels meet, one name is enough.
                if side < 0.0 && *name == "0" && index < last {
                    continue;
                }
                let (x, y) = chart.backend_coord(&(0.0, y));
                let style = letters(14).pos(Pos::new(HPos::Right, VPos::Center));
                let at = (x - left.start - 8, y - above.start + 2);
                area.draw(&Text::new(*name, at, style)).map_err(said)?;
            }
        }
        let middle = PathElement::new(vec![(0.0, lane.middle), (axis, lane.middle)], GRID);
        chart.draw_series([middle]).map_err(said)?;
        if index > 0 {
            let y = lane.middle + 1.0;
            let between = PathElement::new(vec![(0.0, y), (axis, y)], INK.mix(0.6));
            chart.draw_series([between]).map_err(said)?;
        }
        let (x, y) = chart.backend_coord(&(axis, lane.middle));
        let style = letters(16).pos(Pos::new(HPos::Left, VPos::Center));
        let at = (x - left.start + 8, y - above.start + 2);
        area.draw(&Text::new(lane.name.as_str(), at, style)).map_err(said)?;
    }
    Ok(())
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn time_axes_count_in_what_their_length_asks() {
        for (axis, at, unit, label) in [
            (0.0014, 0.0007, "milliseconds", "0.70"),
            (0.5, 0.25, "milliseconds", "250"),
            (12.0, 2.5, "seconds", "2.5"),
            (400.0, 65.0, "minutes:seconds", "1:05"),
            (7_200.0, 3_599.9, "minutes:seconds", "60:00"),
        ] {
            let (name, labels) = clock(axis);
            assert_eq!((name, labels(&at).as_str()), (unit, label), "{axis}");
        }
    }
}
