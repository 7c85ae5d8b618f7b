//! The picture of a pack: given, or drawn from the first clip's outline.

use crate::disk::read_input;
use crate::error::internal;
use crate::error::{Error, Result};
use crate::limits;
use crate::refusal::OddPack;
use crate::run::{JobPlan, Line, Run};
use deft_needle_audio::measure::picture::{Column, picture};
use deft_needle_audio::num::{rounded_signed, size};
use deft_needle_audio::{Clip, Observer};
use image::imageops::FilterType;
use image::{ImageFormat, ImageReader, Limits};
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
    let bytes = match given(run)? {
        Some(bytes) => bytes,
        None => {
            let made = |line: &Line| {
                let input = deft_needle_audio::read::Input::file(&path_of(line));
                Clip::from_input(input, &line.hints()).ok()
            };
            // What a closed format is made of shows what is heard of it.
            let fed = |line: &Line| line.open().ok();
            let mut lines = plan.lines.iter();
            let first = lines.find_map(|line| made(line).or_else(|| fed(line)));
            let columns = match first {
                Some(clip) => picture(&clip, size(wanted.size.into()), observer)?.columns,
                None => Vec::new(),
            };
            drawn(&columns, wanted.size)?
        }
    };
    Ok(Some((wanted.path.0, bytes)))
}

/// The picture that the job gives: a square out of its middle, of the size and in the format that the sheet
/// asks for.
///
/// # Errors
/// A file that is no PNG or JPEG, or larger than [`limits::PIXELS`] each way.
pub(super) fn given(run: &Run) -> Result<Option<Vec<u8>>> {
    let Some(wanted) = run.layout().icon else {
        return Ok(None);
    };
    if wanted.size == 0 || wanted.size > limits::PIXELS {
        return Err(OddPack::IconSize { size: wanted.size, most: limits::PIXELS }.into());
    }
    let Some(given) = &run.job.pack.icon else {
        return Ok(None);
    };
    let path = run.job.beside(given);
    let bytes = read_input(&path, limits::LIST).map_err(Error::read(&path))?;
    let bad = || Error::from(OddPack::BadIcon { path: path.clone(), most: limits::PIXELS });
    let mut reader =
        ImageReader::new(Cursor::new(&bytes)).with_guessed_format().map_err(|_| bad())?;
    let mut most = Limits::default();
    (most.max_image_width, most.max_image_height) = (Some(limits::PIXELS), Some(limits::PIXELS));
    reader.limits(most);
    let format = reader.format();
    let given = reader.decode().map_err(|_| bad())?;
    let side = given.width().min(given.height());
    let (left, top) = ((given.width() - side) / 2, (given.height() - side) / 2);
    let square = given.crop_imm(left, top, side, side);
    let scaled = match side == wanted.size {
        true => square,
        false => square.resize_exact(wanted.size, wanted.size, FilterType::Lanczos3),
    };
    let mut out = Cursor::new(Vec::new());
    let extension = wanted.path.0.rsplit_once('.').map_or("", |(_, extension)| extension);
    let asked = match extension.to_lowercase().as_str() {
        "jpg" | "jpeg" => ImageFormat::Jpeg,
        _ => ImageFormat::Png,
    };
    // One that is all that is asked for stays as it is.
    if (given.width(), given.height()) == (wanted.size, wanted.size) && format == Some(asked) {
        return Ok(Some(bytes));
    }
    let written = match asked {
        ImageFormat::Jpeg => scaled.to_rgb8().write_to(&mut out, asked),
        _ => scaled.to_rgba8().write_to(&mut out, asked),
    };
    written.map_err(|error| internal(format!("the icon cannot be written: {error}")))?;
    Ok(Some(out.into_inner()))
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
