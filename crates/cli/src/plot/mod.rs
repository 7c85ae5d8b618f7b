//! Pictures of clips as PNG, drawn without any font or library of the system's.

mod spectrum;
mod wave;

pub use wave::Wave;

use crate::failure::Failure;
use deft_needle_audio::measure::picture::Picture;
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
    let font = include_bytes!("../../assets/plot.ttf");
    register_font("plot", FontStyle::Normal, font).map_err(|_| "the font is damaged")?;
    let area = BitMapBackend::with_buffer(pixels, SIZE).into_drawing_area();
    area.fill(&PAPER).map_err(said)?;
    let parts = area.split_evenly((panels.len(), 1));
    for (panel, part) in panels.iter().zip(parts) {
        match panel {
            Panel::Wave(wave) => wave::paint(wave, &part)?,
            Panel::Spectrum { title, picture, rates } => {
                spectrum::paint(title, picture, rates, &part)?
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

/// The longest title, in characters.
const TITLE: usize = 90;

/// A text that the font can show: what it cannot is escaped, and what is too long loses its middle.
fn shown(text: &str) -> String {
    let has = |c: char| matches!(c, ' '..='~' | '\u{a0}'..='\u{24f}' | '\u{370}'..='\u{4ff}' | '\u{2010}'..='\u{2026}' | '\u{2212}');
    let escaped: Vec<char> = text
        .chars()
        .flat_map(|c| match has(c) {
            true => vec![c],
            false => c.escape_unicode().collect(),
        })
        .collect();
    match escaped.len() > TITLE {
        true => {
            let (head, tail) = (&escaped[..TITLE / 2], &escaped[escaped.len() - TITLE / 2..]);
            head.iter().chain(&['…']).chain(tail).collect()
        }
        false => escaped.into_iter().collect(),
    }
}

fn fixed(digits: usize) -> impl Fn(&f64) -> String {
    move |value| format!("{value:.digits$}")
}

/// Which lines a grid has.
#[derive(Clone, Copy, PartialEq, Eq)]
enum Lines {
    Both,
    /// Whoever draws has levels of its own.
    Upright,
}

/// Grid and axes, each with its name and what its labels say.
fn mesh<X, Y>(
    chart: &mut ChartContext<'_, BitMapBackend<'_>, Cartesian2d<X, Y>>,
    (x, x_label): (&str, &dyn Fn(&f64) -> String),
    (y, y_label): (&str, &dyn Fn(&f64) -> String),
    lines: Lines,
) -> Drawn
where
    X: Ranged<ValueType = f64> + ValueFormatter<f64>,
    Y: Ranged<ValueType = f64> + ValueFormatter<f64>,
{
    let mut mesh = chart.configure_mesh();
    if lines == Lines::Upright {
        mesh.disable_y_mesh().set_tick_mark_size(LabelAreaPosition::Left, 0);
    }
    mesh.light_line_style(GRID.mix(0.0))
        .bold_line_style(GRID)
        .axis_style(INK)
        .label_style(letters(14))
        .x_desc(x)
        .y_desc(y)
        .x_label_formatter(x_label)
        .y_label_formatter(y_label)
        .draw()
        .map_err(said)
}

/// Waves around a seam, which is marked.
fn paint_seam(title: &str, curves: &[Curve], area: &Area<'_>) -> Drawn {
    let points = || curves.iter().flat_map(|curve| &curve.points);
    let reach = points().fold(0.1f64, |most, p| most.max(p.0.abs()));
    let high = 1.1 * points().fold(1e-4f64, |most, p| most.max(p.1.abs()));
    let mut chart = ChartBuilder::on(area)
        .caption(shown(title), letters(20))
        .margin(14)
        .margin_right(30)
        .x_label_area_size(34)
        .y_label_area_size(56)
        // Above the waves there is room for their names.
        .build_cartesian_2d(-reach..reach, -high..1.8 * high)
        .map_err(said)?;
    let digits = if high < 0.05 { 4 } else { 2 };
    mesh(
        &mut chart,
        ("milliseconds from the seam", &fixed(0)),
        ("full scale", &fixed(digits)),
        Lines::Both,
    )?;
    let mark = PathElement::new(vec![(0.0, -high), (0.0, 1.8 * high)], LOOP.stroke_width(2));
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

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn titles_are_readable_escaped_and_shortened_in_the_middle() {
        for (text, want) in [
            ("bell.wav, wav pcm16 44100 mono", "bell.wav, wav pcm16 44100 mono"),
            ("Набережная.ogg", "Набережная.ogg"),
            ("鐘.wav", "\\u{9418}.wav"),
            ("a\u{7}b\u{202e}c", "a\\u{7}b\\u{202e}c"),
        ] {
            assert_eq!(shown(text), want);
        }
        let long = format!("{}.wav", "x".repeat(300));
        let short = shown(&long);
        assert!(short.starts_with("xxx") && short.contains('…') && short.ends_with("x.wav"));
        assert_eq!(short.chars().count(), TITLE + 1);
    }
}
