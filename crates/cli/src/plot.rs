//! Pictures of clips as PNG, drawn without any font or library of the system's.

use crate::failure::Failure;
use deft_needle_audio::measure::picture::Picture;
use deft_needle_audio::num::real_size;
use plotters::coord::Shift;
use plotters::coord::ranged1d::{Ranged, ValueFormatter};
use plotters::prelude::*;
use plotters::style::register_font;

/// The size of every picture, in pixels.
pub const SIZE: (u32, u32) = (1280, 800);
/// Columns of an outline: one for about each pixel of its panel.
pub const COLUMNS: usize = 1180;

const PAPER: RGBColor = RGBColor(250, 248, 243);
const INK: RGBColor = RGBColor(44, 48, 56);
const GRID: RGBColor = RGBColor(222, 217, 206);
const WAVE: RGBColor = RGBColor(120, 158, 178);
const BODY: RGBColor = RGBColor(38, 92, 122);
const SILENT: RGBColor = RGBColor(236, 229, 210);
const LOOP: RGBColor = RGBColor(58, 128, 74);
const CLIPPED: RGBColor = RGBColor(196, 58, 48);

/// One part of a picture.
pub enum Panel<'a> {
    /// A clip over time.
    Wave(Wave<'a>),
    /// Its mean spectrum.
    Spectrum {
        /// What it shows.
        title: String,
        /// The spectrum.
        picture: &'a Picture,
        /// Sample rates whose upper limit is marked.
        rates: Vec<u32>,
    },
    /// Waves around a seam.
    Seam {
        /// What it shows.
        title: String,
        /// The waves.
        curves: Vec<Curve>,
    },
}

/// A line through points.
pub struct Curve {
    /// What it shows.
    pub name: String,
    /// Milliseconds from the seam, and samples.
    pub points: Vec<(f64, f64)>,
}

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
    /// Clipped places.
    pub clipped: Vec<f64>,
    /// Other loops that would do, the best first.
    pub candidates: Vec<(f64, f64)>,
}

/// Draws panels one above the other; gives the bytes of a PNG.
///
/// # Errors
/// [`Failure::Outside`] where drawing fails.
pub fn draw(panels: &[Panel<'_>]) -> Result<Vec<u8>, Failure> {
    let mut pixels = vec![0; deft_needle_audio::num::size((SIZE.0 * SIZE.1 * 3).into())];
    paint(panels, &mut pixels).map_err(|what| Failure::Outside {
        what: format!("the picture could not be drawn: {what}"),
    })?;
    let mut file = Vec::new();
    let mut encode = || {
        let mut encoder = png::Encoder::new(&mut file, SIZE.0, SIZE.1);
        encoder.set_color(png::ColorType::Rgb);
        encoder.set_depth(png::BitDepth::Eight);
        encoder.write_header()?.write_image_data(&pixels)
    };
    encode().map_err(|error| Failure::Outside {
        what: format!("the picture could not be encoded: {error}"),
    })?;
    Ok(file)
}

type Drawn = Result<(), String>;

fn said(error: impl std::fmt::Display) -> String {
    error.to_string()
}

fn paint(panels: &[Panel<'_>], pixels: &mut [u8]) -> Drawn {
    let font = include_bytes!("../assets/plot.ttf");
    register_font("plot", FontStyle::Normal, font).map_err(|_| "the font is damaged")?;
    let area = BitMapBackend::with_buffer(pixels, SIZE).into_drawing_area();
    area.fill(&PAPER).map_err(said)?;
    let parts = area.split_evenly((panels.len(), 1));
    for (panel, part) in panels.iter().zip(parts) {
        match panel {
            Panel::Wave(wave) => paint_wave(wave, &part)?,
            Panel::Spectrum { title, picture, rates } => {
                paint_spectrum(title, picture, rates, &part)?
            }
            Panel::Seam { title, curves } => paint_seam(title, curves, &part)?,
        }
    }
    area.present().map_err(said)
}

type Area<'a> = DrawingArea<BitMapBackend<'a>, Shift>;

fn letters(size: u32) -> TextStyle<'static> {
    ("plot", size).into_font().color(&INK)
}

/// Grid and axes, each with its name and the digits behind the point of its labels.
fn mesh<X, Y>(
    chart: &mut ChartContext<'_, BitMapBackend<'_>, Cartesian2d<X, Y>>,
    (x, x_digits): (&str, usize),
    (y, y_digits): (&str, usize),
) -> Drawn
where
    X: Ranged<ValueType = f64> + ValueFormatter<f64>,
    Y: Ranged<ValueType = f64> + ValueFormatter<f64>,
{
    chart
        .configure_mesh()
        .light_line_style(GRID.mix(0.0))
        .bold_line_style(GRID)
        .axis_style(INK)
        .label_style(letters(14))
        .x_desc(x)
        .y_desc(y)
        .x_label_formatter(&|x| format!("{x:.x_digits$}"))
        .y_label_formatter(&|y| format!("{y:.y_digits$}"))
        .draw()
        .map_err(said)
}

fn paint_wave(wave: &Wave<'_>, area: &Area<'_>) -> Drawn {
    let mut chart = ChartBuilder::on(area)
        .caption(&wave.title, letters(20))
        .margin(14)
        .margin_right(30)
        .x_label_area_size(34)
        .y_label_area_size(56)
        .build_cartesian_2d(0.0..wave.axis.max(1e-3), -1.0..1.0)
        .map_err(said)?;
    let band =
        |(a, b): (f64, f64), color: RGBColor| Rectangle::new([(a, -1.0), (b, 1.0)], color.filled());
    chart.draw_series(wave.silence.iter().map(|range| band(*range, SILENT))).map_err(said)?;
    let x = match wave.candidates.is_empty() {
        true => "seconds (light: peaks, dark: RMS, sand: silence, green: loop, red: clipped)",
        false => "seconds (light: peaks, dark: RMS, green: loop, below: others that were found)",
    };
    mesh(&mut chart, (x, 2), ("full scale", 1))?;
    let step = wave.seconds / real_size(wave.picture.columns.len().max(1));
    for (color, body) in [(WAVE, false), (BODY, true)] {
        let bars = wave.picture.columns.iter().enumerate().map(|(i, column)| {
            let (low, high) = match body {
                true => (-column.rms, column.rms),
                false => (column.least, column.greatest),
            };
            let x = real_size(i) * step;
            Rectangle::new([(x, low.max(-1.0)), (x + step, high.min(1.0))], color.filled())
        });
        chart.draw_series(bars).map_err(said)?;
    }
    let line = |x: f64, color: RGBColor, width: u32| {
        PathElement::new(vec![(x, -1.0), (x, 1.0)], color.stroke_width(width))
    };
    let ends = wave.loops.iter().flat_map(|(a, b)| [*a, *b]);
    chart.draw_series(ends.map(|x| line(x, LOOP, 2))).map_err(said)?;
    for (place, (a, b)) in (0..).zip(&wave.candidates) {
        let y = -0.72 - 0.07 * f64::from(place % 4);
        let bar = PathElement::new(vec![(*a, y), (*b, y)], LOOP.mix(0.8).stroke_width(2));
        chart.draw_series([bar]).map_err(said)?;
    }
    let clipped = wave.clipped.iter().map(|x| line(*x, CLIPPED, 1));
    chart.draw_series(clipped).map_err(said)?;
    Ok(())
}

fn paint_spectrum(title: &str, picture: &Picture, rates: &[u32], area: &Area<'_>) -> Drawn {
    const FLOOR: f64 = -120.0;
    let top = picture.spectrum.last().map_or(20_000.0, |point| point.0);
    let mut chart = ChartBuilder::on(area)
        .caption(title, letters(20))
        .margin(14)
        .margin_right(30)
        .x_label_area_size(34)
        .y_label_area_size(56)
        .build_cartesian_2d((20.0..top.max(40.0)).log_scale(), FLOOR..0.0)
        .map_err(said)?;
    mesh(&mut chart, ("hertz", 0), ("dB", 0))?;
    let points = picture.spectrum.iter().filter(|point| point.0 >= 20.0);
    let points = points.map(|(hertz, db)| (*hertz, db.max(FLOOR)));
    chart
        .draw_series(AreaSeries::new(points, FLOOR, WAVE.mix(0.5)).border_style(BODY))
        .map_err(said)?;
    let inside = rates.iter().filter(|rate| f64::from(**rate) / 2.0 < top);
    for (place, rate) in (0..).zip(inside) {
        let x = f64::from(*rate) / 2.0;
        let mark = PathElement::new(vec![(x, FLOOR), (x, 0.0)], LOOP.stroke_width(1));
        chart.draw_series([mark]).map_err(said)?;
        // Labels step down, so that near ones do not cover each other.
        let y = -4.0 - 8.0 * f64::from(place % 3);
        let text = Text::new(format!("{rate} Hz ends here"), (x, y), letters(13));
        chart.draw_series([text]).map_err(said)?;
    }
    Ok(())
}

/// Waves around a seam, which is marked.
fn paint_seam(title: &str, curves: &[Curve], area: &Area<'_>) -> Drawn {
    let points = || curves.iter().flat_map(|curve| &curve.points);
    let reach = points().fold(0.1f64, |most, p| most.max(p.0.abs()));
    let high = 1.1 * points().fold(1e-4f64, |most, p| most.max(p.1.abs()));
    let mut chart = ChartBuilder::on(area)
        .caption(title, letters(20))
        .margin(14)
        .margin_right(30)
        .x_label_area_size(34)
        .y_label_area_size(56)
        .build_cartesian_2d(-reach..reach, -high..high)
        .map_err(said)?;
    let digits = if high < 0.05 { 4 } else { 2 };
    mesh(&mut chart, ("milliseconds from the seam", 0), ("full scale", digits))?;
    let mark = PathElement::new(vec![(0.0, -high), (0.0, high)], LOOP.stroke_width(2));
    chart.draw_series([mark]).map_err(said)?;
    // The first of two is broad, so that it shows beneath the other where both are alike.
    let styles = match curves.len() {
        1 => vec![BODY.stroke_width(2)],
        _ => vec![WAVE.stroke_width(4), CLIPPED.stroke_width(1)],
    };
    for (curve, style) in curves.iter().zip(styles) {
        let line = LineSeries::new(curve.points.iter().copied(), style);
        let drawn = chart.draw_series(line).map_err(said)?;
        drawn
            .label(curve.name.as_str())
            .legend(move |(x, y)| PathElement::new(vec![(x, y), (x + 18, y)], style));
    }
    chart
        .configure_series_labels()
        .position(SeriesLabelPosition::UpperRight)
        .background_style(PAPER)
        .border_style(GRID)
        .label_font(letters(13))
        .draw()
        .map_err(said)
}
