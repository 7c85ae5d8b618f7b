//! The picture of a pack: given, or drawn from the first clip's outline.

use crate::disk::read_input;
use crate::error::{Error, Result};
use crate::limits;
use crate::refusal::{OddPack, internal};
use crate::run::{JobPlan, Line, Run};
use deft_needle_audio::measure::picture::{Column, picture};
use deft_needle_audio::num::{rounded_signed, size};
use deft_needle_audio::{Clip, Observer};
use std::io::Cursor;
use std::path::PathBuf;

/// Night blue, and the yellow of a lamp.
const GROUND: [u8; 3] = [24, 32, 56];
const WAVE: [u8; 3] = [250, 204, 92];

/// The icon with its path in the pack, where the sheet asks for one.
pub(super) fn icon(
    run: &Run,
    plan: &JobPlan,
    path_of: &dyn Fn(&Line) -> PathBuf,
    observer: &dyn Observer,
) -> Result<Option<(String, Vec<u8>)>> {
    let Some(wanted) = run.layout().icon else {
        return Ok(None);
    };
    if wanted.size == 0 || wanted.size > limits::PIXELS {
        return Err(OddPack::IconSize { size: wanted.size, most: limits::PIXELS }.into());
    }
    let bytes = match &run.job.pack.icon {
        Some(given) => {
            let path = run.job.beside(given);
            let bytes = read_input(&path, limits::LIST).map_err(Error::read(&path))?;
            let bad = |found| OddPack::BadIcon { path: path.clone(), found, size: wanted.size };
            let reader = png::Decoder::new(Cursor::new(&bytes)).read_info();
            let reader = reader.map_err(|_| bad(None))?;
            let (width, height) = (reader.info().width, reader.info().height);
            if (width, height) != (wanted.size, wanted.size) {
                return Err(bad(Some((width, height))).into());
            }
            bytes
        }
        None => {
            let first = plan.lines.iter().find_map(|line| {
                let hints = line.hints();
                let input = deft_needle_audio::read::Input::file(&path_of(line));
                Clip::from_input(input, &hints).ok()
            });
            let columns = match first {
                Some(clip) => picture(&clip, size(wanted.size.into()), observer)?.columns,
                None => Vec::new(),
            };
            drawn(&columns, wanted.size)?
        }
    };
    Ok(Some((wanted.path.0, bytes)))
}

/// A square with an outline from edge to edge, as loud as it goes.
fn drawn(columns: &[Column], side: u32) -> Result<Vec<u8>> {
    let loudest = columns.iter().map(|c| c.greatest.max(-c.least)).fold(1e-9, f64::max);
    let half = f64::from(side) / 2.0;
    let mut pixels = Vec::new();
    for y in 0..side {
        for x in 0..side {
            let at = size(u64::from(x)) * columns.len() / size(u64::from(side)).max(1);
            let column = columns.get(at).copied().unwrap_or_default();
            let level = |value: f64| rounded_signed(half - value / loudest * half * 0.8);
            // A line is there even in silence.
            let (top, bottom) =
                (level(column.greatest), level(column.least).max(level(column.greatest) + 1));
            let inside = (top..bottom).contains(&i64::from(y));
            pixels.extend(if inside { WAVE } else { GROUND });
        }
    }
    let mut bytes = Vec::new();
    let mut encoder = png::Encoder::new(&mut bytes, side, side);
    encoder.set_color(png::ColorType::Rgb);
    encoder.set_depth(png::BitDepth::Eight);
    let written = encoder.write_header().and_then(|mut writer| writer.write_image_data(&pixels));
    written.map_err(|error| internal(format!("the icon cannot be drawn: {error}")))?;
    Ok(bytes)
}
