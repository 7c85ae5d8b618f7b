//! Regular files, opened and read without following what is none.

use std::fs::{self, File, OpenOptions};
use std::io;
use std::path::Path;

/// Opens a regular file: no link is followed, and a pipe or a device is not waited for.
///
/// # Errors
/// The system's; [`io::ErrorKind::InvalidInput`] where it is something else.
pub fn open_plain(options: &mut OpenOptions, path: &Path) -> io::Result<File> {
    #[cfg(unix)]
    {
        use std::os::unix::fs::OpenOptionsExt as _;
        options.custom_flags(libc::O_NOFOLLOW | libc::O_NONBLOCK);
    }
    if fs::symlink_metadata(path).is_ok_and(|found| !found.is_file()) {
        return Err(not_plain());
    }
    let file = options.open(path)?;
    match file.metadata()?.is_file() {
        true => Ok(file),
        false => Err(not_plain()),
    }
}

fn not_plain() -> io::Error {
    io::Error::new(
        io::ErrorKind::InvalidInput,
        "a link, pipe, device or folder, not a regular file",
    )
}

/// All bytes of a regular file of at most `most` bytes, links not followed.
///
/// # Errors
/// As [`open_plain`]; [`io::ErrorKind::FileTooLarge`].
pub fn read_plain(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    read_at_most(open_plain(OpenOptions::new().read(true), path)?, most)
}

/// All bytes of a regular file of the user's, links followed, of at most `most` bytes.
///
/// # Errors
/// The system's; [`io::ErrorKind::FileTooLarge`].
pub fn read_input(path: &Path, most: u64) -> io::Result<Vec<u8>> {
    read_at_most(deft_needle_audio::read::open_regular(path)?, most)
}

/// All that a reader gives, which must be at most `most` bytes.
///
/// # Errors
/// The reader's; [`io::ErrorKind::FileTooLarge`].
pub fn read_at_most(reader: impl io::Read, most: u64) -> io::Result<Vec<u8>> {
    use io::Read as _;
    let mut bytes = Vec::new();
    reader.take(most.saturating_add(1)).read_to_end(&mut bytes)?;
    match deft_needle_audio::num::count(bytes.len()) > most {
        true => Err(io::Error::new(
            io::ErrorKind::FileTooLarge,
            format!("it is larger than {most} bytes"),
        )),
        false => Ok(bytes),
    }
}
