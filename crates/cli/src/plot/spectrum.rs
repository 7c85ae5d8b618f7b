//! The mean spectrum of a clip, and what sample rates can hold of it.

use super::{Area, BODY, Drawn, GRID, LOOP, Lines, WAVE, fixed, letters, mesh, said};
use deft_needle_audio::measure::picture::Picture;
use plotters::prelude::*;
use plotters::style::text_anchor::{HPos, Pos, VPos};

/// Frequencies that the axis names.
const TICKS: [(f64, &str); 10] = [
    (20.0, "20"),
    (50.0, "50"),
    (100.0, "100"),
    (200.0, "200"),
    (500.0, "500"),
    (1_000.0, "1k"),
    (2_000.0, "2k"),
    (5_000.0, "5k"),
    (10_000.0, "10k"),
    (20_000.0, "20k"),
];

pub(super) fn paint(title: &str, picture: &Picture, rates: &[u32], area: &Area<'_>) -> Drawn {
    const FLOOR: f64 = -120.0;
    let top = picture.spectrum.last().map_or(20_000.0, |point| point.0).max(40.0);
    let mut chart = ChartBuilder::on(area)
        .caption(title, letters(20))
        .margin(14)
        .margin_right(30)
        .x_label_area_size(34)
        .y_label_area_size(56)
        .build_cartesian_2d((20.0..top).log_scale(), FLOOR..0.0)
        .map_err(said)?;
    // The axis names what people know, which lies closer than its powers of ten.
    mesh(&mut chart, ("hertz", &|_| String::new()), ("dB", &fixed(0)), Lines::Both)?;
    for (hertz, name) in TICKS.iter().filter(|tick| tick.0 <= top) {
        let line = PathElement::new(vec![(*hertz, FLOOR), (*hertz, 0.0)], GRID);
        chart.draw_series([line]).map_err(said)?;
        let (x, y) = chart.backend_coord(&(*hertz, FLOOR));
        let (left, above) = area.get_pixel_range();
        let at = (x - left.start - 8, y - above.start + 6);
        area.draw(&Text::new(*name, at, letters(14))).map_err(said)?;
    }
    let points = picture.spectrum.iter().filter(|point| point.0 >= 20.0);
    let points = points.map(|(hertz, db)| (*hertz, db.max(FLOOR)));
    chart
        .draw_series(AreaSeries::new(points, FLOOR, WAVE.mix(0.5)).border_style(BODY))
        .map_err(said)?;
    let inside = rates.iter().filter(|rate| f64::from(**rate) / 2.0 < top);
    for (place, rate) in (0..).zip(inside) {
        let x = f64::from(*rate) / 2.0;
        let mark = PathElement::new(vec![(x, FLOOR), (x, 0.0)], LOOP.stroke_width(2));
        chart.draw_series([mark]).map_err(said)?;
        // Labels step down, so that near ones do not cover each other, and lie left of their lines.
        let y = -4.0 - 8.0 * f64::from(place % 3);
        let text = format!("limit at {} kHz for {rate} Hz", f64::from(*rate) / 2000.0);
        let style = letters(14).pos(Pos::new(HPos::Right, VPos::Top));
        chart.draw_series([Text::new(text, (x / 1.01, y), style)]).map_err(said)?;
    }
    if picture.columns.iter().all(|column| column.rms == 0.0) {
        let text = Text::new("silent", (600.0, FLOOR / 2.0), letters(20));
        chart.draw_series([text]).map_err(said)?;
    }
    Ok(())
}
