//! The ledger's log: a line a record, each with its own checksum, only ever written at the end.

use super::record::Record;
use crate::disk::Disk;
use crate::error::{Error, Result};
use crate::hash::Hash;
use deft_needle_audio::num::count;
use std::io::Write;
use std::path::Path;

/// Hexadecimal digits of the checksum in front of each record.
const CHECK: usize = 16;

/// What a log holds, and how much of the file that is.
#[derive(Debug, Default)]
pub struct Log {
    /// The sound records.
    pub records: Vec<Record>,
    /// Bytes that they take; behind them lies at most one torn record.
    pub sound_bytes: u64,
    /// Whether there is something torn behind them.
    pub torn: bool,
}

fn line_of(record: &Record) -> Result<String> {
    let json = serde_json::to_string(record).map_err(|error| {
        Error::refused(
            format!("a record cannot be written: {error}"),
            "report this",
        )
    })?;
    let check = &Hash::of(json.as_bytes()).hex()[..CHECK];
    Ok(format!("{check} {json}\n"))
}

fn record_of(line: &[u8]) -> Option<Record> {
    let text = std::str::from_utf8(line).ok()?;
    let (check, json) = text.split_at_checked(CHECK)?;
    let json = json.strip_prefix(' ')?;
    let sound = Hash::of(json.as_bytes()).hex().get(..CHECK) == Some(check);
    sound.then(|| serde_json::from_str(json).ok()).flatten()
}

/// Reads a log; an absent one is empty.
///
/// # Errors
/// [`Error::Read`]; [`Error::Refused`] where a record in the middle is damaged, which no crash
/// leaves behind.
pub fn read(path: &Path) -> Result<Log> {
    let bytes = match std::fs::read(path) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Log::default()),
        Err(error) => return Err(Error::read(path)(error)),
    };
    let mut log = Log::default();
    let mut lines = bytes.split_inclusive(|&b| b == b'\n');
    for line in lines.by_ref() {
        match line.strip_suffix(b"\n").and_then(record_of) {
            Some(record) => {
                log.records.push(record);
                log.sound_bytes += count(line.len());
            }
            None => {
                log.torn = true;
                break;
            }
        }
    }
    let later = lines.any(|line| line.strip_suffix(b"\n").and_then(record_of).is_some());
    if later {
        return Err(Error::refused(
            format!(
                "{} is damaged in line {}",
                path.display(),
                log.records.len() + 1
            ),
            "nothing was changed; the stock lies in the folder \"stock\" beside it",
        ));
    }
    Ok(log)
}

/// Adds records, and waits until they are on the disk; gives how many bytes they take.
///
/// # Errors
/// [`Error::Write`].
pub fn append(path: &Path, records: &[Record], disk: &dyn Disk) -> Result<u64> {
    let lines: String = records.iter().map(line_of).collect::<Result<_>>()?;
    let mut file = disk.append(path).map_err(Error::write("write", path))?;
    file.write_all(lines.as_bytes())
        .and_then(|()| file.flush())
        .and_then(|()| file.sync())
        .map_err(Error::write("write", path))?;
    Ok(count(lines.len()))
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::disk::RealDisk;
    use proptest::prelude::*;

    #[test]
    fn a_torn_end_is_cut_and_a_damaged_middle_refused() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ledger.log");
        let disk = RealDisk::default();
        let records = [Record::Ready, Record::Done, Record::Undone];
        append(&path, &records, &disk).unwrap();
        let whole = std::fs::read(&path).unwrap();
        for cut in 0..whole.len() {
            std::fs::write(&path, &whole[..cut]).unwrap();
            let log = read(&path).unwrap();
            assert_eq!(log.records, records[..log.records.len()]);
            assert_eq!(log.torn, log.sound_bytes != count(cut));
        }
        let mut damaged = whole.clone();
        damaged[20] ^= 1;
        std::fs::write(&path, &damaged).unwrap();
        assert!(matches!(read(&path), Err(Error::Refused { .. })));
    }

    proptest! {
        #[test]
        fn any_bytes_are_read_without_panic(bytes in proptest::collection::vec(any::<u8>(), 0..400)) {
            let file = tempfile::NamedTempFile::new().unwrap();
            std::fs::write(file.path(), &bytes).unwrap();
            prop_assert!(read(file.path()).unwrap().records.is_empty());
        }
    }
}
