//! Pictures: where their marks stand, by the pixels.

use crate::bench::{Bench, wav};

const LOOP: [u8; 3] = [58, 128, 74];
const CLIPPED: [u8; 3] = [196, 58, 48];
const BODY: [u8; 3] = [38, 92, 122];
const SILENT: [u8; 3] = [236, 229, 210];
/// The plot's left and right edge: margins of 14 and 30 pixels, 56 for the labels.
const PLOT: std::ops::Range<f64> = 70.0..1250.0;

struct Picture {
    width: usize,
    height: usize,
    pixels: Vec<u8>,
}

impl Picture {
    fn open(bench: &Bench, name: &str) -> Self {
        let bytes = std::fs::read(bench.path(name)).unwrap();
        let mut reader = png::Decoder::new(std::io::Cursor::new(bytes)).read_info().unwrap();
        let mut pixels = vec![0; reader.output_buffer_size().unwrap()];
        let info = reader.next_frame(&mut pixels).unwrap();
        Self { width: info.width as usize, height: info.height as usize, pixels }
    }

    fn at(&self, x: usize, y: usize) -> [u8; 3] {
        let at = 3 * (y * self.width + x);
        self.pixels[at..at + 3].try_into().unwrap()
    }

    /// Columns of these rows in which more than `share` of the pixels have a colour.
    fn columns(&self, rows: std::ops::Range<usize>, color: [u8; 3], share: f64) -> Vec<usize> {
        let full = |x: &usize| {
            let count = rows.clone().filter(|y| self.at(*x, *y) == color).count();
            count as f64 > share * rows.len() as f64
        };
        (0..self.width).filter(full).collect()
    }

    /// Neighbouring columns as one, by their middle, as a share of the plot's width.
    fn marks(&self, rows: std::ops::Range<usize>, color: [u8; 3]) -> Vec<f64> {
        let mut marks: Vec<Vec<usize>> = Vec::new();
        for x in self.columns(rows, color, 0.25) {
            match marks.last_mut().filter(|mark| mark[mark.len() - 1] + 1 == x) {
                Some(mark) => mark.push(x),
                None => marks.push(vec![x]),
            }
        }
        let share = |x: f64| (x - PLOT.start) / (PLOT.end - PLOT.start);
        marks.iter().map(|mark| share((mark[0] + mark[mark.len() - 1]) as f64 / 2.0)).collect()
    }
}

fn near(found: &[f64], want: &[f64]) -> bool {
    found.len() == want.len() && found.iter().zip(want).all(|(a, b)| (a - b).abs() < 0.004)
}

#[test]
fn a_loop_and_silence_stand_where_they_are() {
    let bench = Bench::new();
    // Two seconds, the last half silent.
    let tone = wav(48_000, 1, 16, 72_000, 0.5);
    bench.put("tone.wav", &tone);
    let fit = "fit tone.wav -o looped.wav --pad 0s,0.5s --loop 0.4s..1.2s --tail keep";
    let ran = bench.sh(fit);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(bench.sh("inspect looped.wav --plot p.png").code, 0);
    let picture = Picture::open(&bench, "p.png");
    assert_eq!((picture.width, picture.height), (1280, 800));
    let marks = picture.marks(60..360, LOOP);
    assert!(near(&marks, &[0.4 / 2.0, 1.2 / 2.0]), "{marks:?}");
    let silent = picture.columns(60..150, SILENT, 0.8);
    let (first, last) = (silent[0] as f64, silent[silent.len() - 1] as f64);
    let share = |x: f64| (x - PLOT.start) / (PLOT.end - PLOT.start);
    assert!(
        (share(first) - 0.75).abs() < 0.004 && (share(last) - 1.0).abs() < 0.004,
        "{first} {last}"
    );
}

#[test]
fn before_and_after_share_one_axis() {
    let bench = Bench::new();
    bench.put("tone.wav", &wav(48_000, 1, 16, 96_000, 0.5));
    let fit = "fit tone.wav -o half.wav --cut 0s..1s --loop 0.25s..0.75s --plot p.png";
    assert_eq!(bench.sh(fit).code, 0);
    let picture = Picture::open(&bench, "p.png");
    // The loop is in the lower half alone, and its second is half of the axis of two.
    assert_eq!(picture.marks(60..340, LOOP), [0.0; 0]);
    let marks = picture.marks(460..740, LOOP);
    assert!(near(&marks, &[0.125, 0.375]), "{marks:?}");
    // The part that was cut off is paper below, and sound above.
    let row = |y: usize, x: f64| picture.at((PLOT.start + x * (PLOT.end - PLOT.start)) as usize, y);
    assert_eq!(row(600, 0.75), row(600, 0.9));
    assert_ne!(row(205, 0.75), row(600, 0.75));
}

#[test]
fn clipped_places_are_marked() {
    let bench = Bench::new();
    bench.put("tone.wav", &wav(48_000, 1, 16, 48_000, 0.5));
    let loud =
        "fit tone.wav -o loud.wav --gain +9dB --allow-clipping --cut 0.5s..0.52s --pad 0.49s,0.49s";
    let ran = bench.sh(loud);
    assert_eq!(ran.code, 0, "{}", ran.err);
    assert_eq!(bench.sh("inspect loud.wav --plot p.png").code, 0);
    // At the upper edge, over all of their length: a fiftieth of the axis.
    let marked = Picture::open(&bench, "p.png").columns(43..48, CLIPPED, 0.8);
    let share = |x: usize| (x as f64 - PLOT.start) / (PLOT.end - PLOT.start);
    assert!(marked.iter().all(|x| (0.485..0.515).contains(&share(*x))), "{marked:?}");
    assert!(marked.len() as f64 > 0.015 * (PLOT.end - PLOT.start), "{marked:?}");
}

#[test]
fn a_seam_is_marked_in_the_middle() {
    let bench = Bench::new();
    bench.put("tone.wav", &wav(48_000, 1, 16, 96_000, 0.5));
    assert_eq!(bench.sh("seam tone.wav --loop 0.5s..1.5s --plot p.png").code, 0);
    let picture = Picture::open(&bench, "p.png");
    let middles = (0..800usize).step_by(267).filter_map(|top| {
        let marks = picture.marks(top + 60..(top + 220).min(780), LOOP);
        marks.into_iter().find(|at| (at - 0.5).abs() < 0.01)
    });
    assert!(middles.count() >= 1);
}

#[test]
fn a_picture_replaces_no_other_file() {
    let bench = Bench::new();
    bench.put("text.png", b"no picture");
    bench.play(
        "
        $ inspect clip.wav --plot text.png [5]
        …
        error: text.png exists already and is not a PNG picture
        help: choose another name for the picture
        ",
    );
    assert_eq!(std::fs::read(bench.path("text.png")).unwrap(), b"no picture");
    assert_eq!(bench.sh("inspect clip.wav --plot p.png").code, 0);
    assert_eq!(bench.sh("inspect clip.wav --plot p.png").code, 0, "a picture may be drawn again");
}

#[test]
fn channels_stand_apart_each_in_its_own_lane() {
    let bench = Bench::new();
    let tone = wav(48_000, 1, 16, 48_000, 0.5);
    bench.put("tone.wav", &tone);
    for (route, upper, lower) in [("L -", true, false), ("- L", false, true), ("L L", true, true)] {
        let fit = format!("fit tone.wav -o two.wav --overwrite --route \"{route}\"");
        assert_eq!(bench.sh(&fit).code, 0, "{route}");
        assert_eq!(bench.sh("inspect two.wav --plot p.png").code, 0);
        let picture = Picture::open(&bench, "p.png");
        // Half of full scale: from a quarter to three quarters of each lane.
        let sounds = |rows| picture.columns(rows, BODY, 0.9).len() > 1_000;
        assert_eq!((sounds(92..143), sounds(248..299)), (upper, lower), "{route}");
        assert!(!sounds(42..75) && !sounds(330..349), "{route}");
    }
}
