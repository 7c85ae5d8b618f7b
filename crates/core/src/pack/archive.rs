//! Writing archives that are the same on every run: files in order, no times, no owners.

use super::Packed;
use crate::disk::{Disk, Part};
use crate::disk::{Durable, copy_file, make_file, put_in_place};
use crate::error::{Error, Result};
use crate::sheet::PackForm;
use deft_needle_audio::Error as AudioError;
use deft_needle_audio::write::Out;
use flate2::{Compression, GzBuilder};
use std::fs::File;
use std::io;
use std::path::Path;
use zip::write::SimpleFileOptions;
use zip::{CompressionMethod, DateTime, ZipWriter};

/// Where a zip entry may be larger than 4 GiB, its header says so.
const LARGE: u64 = (1 << 32) - 1;

impl Packed {
    /// Writes all of it at `out`, which appears only once it is whole and `checked`; a folder is filled
    /// file by file.
    ///
    /// # Errors
    /// [`Error::Write`], and those of the check.
    pub fn write(
        &self,
        form: PackForm,
        out: &Path,
        disk: &dyn Disk,
        checked: &dyn Fn(&Path) -> Result<()>,
    ) -> Result<()> {
        if form == PackForm::Folder {
            self.folder(out, disk)?;
            return checked(out);
        }
        let part = Part::beside(out)?;
        let part = part.path();
        self.write_part(form, part, disk)?;
        let placed = checked(part).and_then(|()| put_in_place(part, out, disk));
        placed.inspect_err(|_| {
            let _ = disk.remove(part);
        })
    }

    /// Writes the archive into a part that is put in place later.
    ///
    /// # Errors
    /// [`Error::Write`].
    pub fn write_part(&self, form: PackForm, part: &Path, disk: &dyn Disk) -> Result<()> {
        let make = |file: &mut dyn Out| {
            let made = match form {
                PackForm::TarGz => self.tar(file),
                PackForm::Zip | PackForm::Folder => self.zip(file),
            };
            made.map_err(|source| AudioError::Write { source })
        };
        make_file(part, Durable::Yes, disk, make, |_, ()| Ok(())).map(|_| ())
    }

    /// A zip (APPNOTE 6.3.10); times are the earliest that it can tell.
    fn zip(&self, out: &mut dyn Out) -> io::Result<()> {
        let mut zip = ZipWriter::new(out);
        for (name, path) in &self.members {
            let bytes = std::fs::metadata(path)?.len();
            let options = SimpleFileOptions::default()
                .compression_method(CompressionMethod::Deflated)
                .last_modified_time(DateTime::default())
                .unix_permissions(0o644)
                .large_file(bytes >= LARGE);
            zip.start_file(name.as_str(), options)?;
            io::copy(&mut File::open(path)?, &mut zip)?;
        }
        zip.finish()?;
        Ok(())
    }

    /// A tar (POSIX.1-2001, ustar) in gzip (RFC 1952).
    fn tar(&self, out: &mut dyn Out) -> io::Result<()> {
        let gzip = GzBuilder::new().mtime(0).write(out, Compression::best());
        let mut tar = tar::Builder::new(gzip);
        for (name, path) in &self.members {
            let file = File::open(path)?;
            let mut header = tar::Header::new_ustar();
            header.set_size(file.metadata()?.len());
            header.set_mode(0o644);
            header.set_mtime(0);
            tar.append_data(&mut header, name, file)?;
        }
        tar.into_inner()?.finish()?;
        Ok(())
    }

    fn folder(&self, out: &Path, disk: &dyn Disk) -> Result<()> {
        for (name, path) in &self.members {
            let to = crate::tree::slot_path(out, name)?;
            if let Some(folder) = to.parent() {
                std::fs::create_dir_all(folder).map_err(Error::write("make", folder))?;
            }
            copy_file(path, &to, Durable::Yes, disk)?;
        }
        Ok(())
    }
}
