//! Files made under another name, proved, then put in place.

use super::{Attributes, Disk, OutFile, Part, dress_made};
use crate::error::{Error, Result};
use deft_needle_audio::Error as AudioError;
use deft_needle_audio::read::open_regular;
use deft_needle_audio::write::Out;
use std::io::{BufWriter, Write as _};
use std::path::Path;

/// Bytes that are gathered before they go to the disk; a block of samples is more and goes at once.
const BUFFER: usize = 1 << 14;

/// Whether a file must be on the disk itself before anything else is done.
#[derive(Debug, Clone, Copy, PartialEq, Eq)]
pub enum Durable {
    /// It must: it will take the place of another.
    Yes,
    /// The system may write it when it likes, or it waits for the disk together with others: the parts of a change.
    No,
}

impl Durable {
    /// What a file needs that goes to `out`: only where it replaces another is there something to lose.
    fn in_place_of(out: &Path) -> Self {
        match out.exists() {
            true => Self::Yes,
            false => Self::No,
        }
    }
}

/// Makes a file and proves it. Whatever goes wrong, nothing is left at `path`.
///
/// # Errors
/// Those of both, and [`Error::Write`].
pub fn make_file<T, P>(
    path: &Path,
    durable: Durable,
    disk: &dyn Disk,
    make: impl FnOnce(&mut dyn Out) -> Result<T, AudioError>,
    prove: impl FnOnce(&Path, &T) -> Result<P, AudioError>,
) -> Result<(T, P)> {
    let made = || {
        let file = disk.create(path).map_err(Error::write("create", path))?;
        let mut out = BufWriter::with_capacity(BUFFER, file);
        let made = make(&mut out).map_err(|error| match error {
            AudioError::Write { source } => Error::write("write", path)(source),
            other => other.into(),
        })?;
        finish(out, durable).map_err(Error::write("write", path))?;
        let proof = prove(path, &made)?;
        Ok((made, proof))
    };
    made().inspect_err(|_| {
        let _ = disk.remove(path);
    })
}

fn finish(mut buffer: BufWriter<Box<dyn OutFile>>, durable: Durable) -> std::io::Result<()> {
    buffer.flush()?;
    match durable {
        Durable::Yes => buffer.get_mut().sync(),
        Durable::No => Ok(()),
    }
}

/// Makes a file beside `out`, proves it, and puts it in place: at any moment the old file or the
/// new one is there.
///
/// # Errors
/// As [`make_file`].
pub fn put_file<T, P>(
    out: &Path,
    disk: &dyn Disk,
    make: impl FnOnce(&mut dyn Out) -> Result<T, AudioError>,
    prove: impl FnOnce(&Path, &T) -> Result<P, AudioError>,
) -> Result<(T, P)> {
    let part = Part::beside(out)?;
    let part = part.path();
    let made = make_file(part, Durable::in_place_of(out), disk, make, prove)?;
    put_in_place(part, out, disk)?;
    Ok(made)
}

/// Puts a finished part in place, for everybody who may read what lies there, or what this user makes.
pub fn put_in_place(part: &Path, out: &Path, disk: &dyn Disk) -> Result<()> {
    let like = Attributes::of(out).ok().filter(|_| out.is_file() && !out.is_symlink());
    let dress = match like {
        Some(like) => Attributes { number: None, ..like.of_place() },
        None => Attributes::usual(),
    };
    let placed = dress_made(disk, part, &dress)
        .map_err(Error::write("set the mode of", part))
        .and_then(|()| disk.rename(part, out).map_err(Error::write("put in place", out)));
    placed.inspect_err(|_| {
        let _ = disk.remove(part);
    })
}

/// Writes bytes into a part of a change, which waits for the disk itself.
///
/// # Errors
/// [`Error::Write`]; nothing is left then.
pub fn write_part(part: &Path, bytes: &[u8], disk: &dyn Disk) -> Result<()> {
    let make =
        |file: &mut dyn Out| file.write_all(bytes).map_err(|source| AudioError::Write { source });
    let made = make_file(part, Durable::No, disk, make, |_, ()| Ok(()));
    made.map(|_| ())
}

/// Copies a file, and reads it back; gives its bytes.
///
/// # Errors
/// [`Error::Read`], [`Error::Write`]; a byte that reads back as another.
pub fn copy_file(from: &Path, to: &Path, durable: Durable, disk: &dyn Disk) -> Result<u64> {
    let mut source = open_regular(from).map_err(Error::read(from))?;
    let make = |file: &mut dyn Out| {
        std::io::copy(&mut source, file).map_err(|source| AudioError::Write { source })
    };
    let prove = |path: &Path, _: &u64| {
        let hashes = crate::hash::Hash::of_file(from)
            .and_then(|a| Ok((a, crate::hash::Hash::of_file(path)?)));
        match hashes {
            Ok((meant, found)) if meant == found => Ok(()),
            _ => Err(AudioError::Verify {
                what: "a byte that was copied reads back as another".to_owned(),
            }),
        }
    };
    let (bytes, ()) = make_file(to, durable, disk, make, prove)?;
    Ok(bytes)
}

/// Puts a copy of a file in place of another; gives its bytes.
///
/// # Errors
/// As [`copy_file`].
pub fn put_copy(from: &Path, out: &Path, disk: &dyn Disk) -> Result<u64> {
    let part = Part::beside(out)?;
    let bytes = copy_file(from, part.path(), Durable::in_place_of(out), disk)?;
    put_in_place(part.path(), out, disk)?;
    Ok(bytes)
}

/// Puts bytes in place of a file: at any moment the old ones or the new ones are there.
///
/// # Errors
/// [`Error::Write`].
pub fn put_bytes(out: &Path, bytes: &[u8], disk: &dyn Disk) -> Result<()> {
    let make =
        |file: &mut dyn Out| file.write_all(bytes).map_err(|source| AudioError::Write { source });
    put_file(out, disk, make, |_, ()| Ok(())).map(|_| ())
}

/// Whether two paths lead to the same file.
pub fn same_file(a: &Path, b: &Path) -> bool {
    match (a.canonicalize(), b.canonicalize()) {
        (Ok(a), Ok(b)) => a == b,
        _ => false,
    }
}
