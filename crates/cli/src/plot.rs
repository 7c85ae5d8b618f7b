//! Pictures of clips as PNG, drawn without any font or library of the system's.

use crate::failure::Failure;
use deft_needle_audio::measure::picture::{Column, Picture};
use deft_needle_audio::num::real_size;
use plotters::coord::Shift;
use plotters::coord::ranged1d::{Ranged, ValueFormatter};
use plotters::coord::types::RangedCoordf64;
use plotters::prelude::*;
use plotters::style::register_font;
use plotters::style::text_anchor::{HPos, Pos, VPos};

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

fn paint_wave(wave: &Wave<'_>, area: &Area<'_>) -> Drawn {
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

fn paint_spectrum(title: &str, picture: &Picture, rates: &[u32], area: &Area<'_>) -> Drawn {
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
