//! The ledger's log: a line a record, each with its number and its own checksum, only ever written at
//! the end, and kept twice.

use super::record::{Put, Record};
use super::state::Slot;
use crate::disk::{Disk, read_plain};
use crate::error::internal;
use crate::error::{Error, Result};
use crate::hash::Hash;
use crate::limits;
use crate::names::Key;
use deft_needle_audio::num::count;
use serde::{Deserialize, Serialize};
use std::collections::BTreeMap;
use std::io::{self, Write};
use std::path::Path;

/// Hexadecimal digits of the checksum in front of each record.
const CHECK: usize = 16;

/// A record with its number, from 0. The logs of version 1 have no numbers.
#[derive(Serialize, Deserialize)]
struct Line {
    #[serde(default, skip_serializing_if = "Option::is_none")]
    n: Option<usize>,
    #[serde(flatten)]
    record: Record,
}

/// What one file of a log holds.
#[derive(Debug, Default)]
pub struct Log {
    /// The intact records by their numbers.
    pub records: BTreeMap<usize, Record>,
    /// Bytes up to the first line that is not intact, and the records there.
    pub intact: u64,
    whole: usize,
    /// Bytes of the whole file.
    pub bytes: u64,
    /// Whether all that is not intact is one unfinished last line, as a crash leaves it.
    pub torn: bool,
    /// Whether the last line is intact or unfinished: the file has its end.
    pub ends: bool,
    /// Whether a line before the first one that is not intact has another number than its place: records
    /// before it are missing, or there twice.
    pub misplaced: bool,
}

impl Log {
    /// How many records stand before the first line that is not intact.
    pub fn whole_lines(&self) -> usize {
        self.whole
    }
}

/// The lines of records, the first of them numbered `from`.
///
/// # Errors
/// [`Error::Refused`] for a record that cannot be written.
pub fn lines(records: &[Record], from: usize) -> Result<String> {
    let line = |(at, record): (usize, &Record)| {
        let line = Line { n: Some(from + at), record: record.clone() };
        let json = serde_json::to_string(&line)
            .map_err(|error| internal(format!("a record cannot be written ({error})")))?;
        let check = &Hash::of(json.as_bytes()).hex()[..CHECK];
        Ok(format!("{check} {json}\n"))
    };
    records.iter().enumerate().map(line).collect()
}

fn line_of(line: &[u8]) -> Option<Line> {
    let text = std::str::from_utf8(line).ok()?;
    let (check, json) = text.split_at_checked(CHECK)?;
    let json = json.strip_prefix(' ')?;
    let intact = Hash::of(json.as_bytes()).hex().get(..CHECK) == Some(check);
    intact.then(|| serde_json::from_str(json).ok()).flatten()
}

/// Whether a line may be the beginning of one of ours, or what a file system leaves of it.
fn is_unfinished(line: &[u8]) -> bool {
    let fits = |(at, byte): (usize, &u8)| match at {
        0..CHECK => byte.is_ascii_hexdigit(),
        CHECK => *byte == b' ',
        _ => at > CHECK + 1 || *byte == b'{',
    };
    line.iter().enumerate().all(fits) || line.iter().all(|&byte| byte == 0)
}

/// Reads one file of a log; an absent one is empty.
///
/// # Errors
/// [`Error::Read`]: what is no regular file, or larger than [`limits::LEDGER`], is not read.
pub fn read(path: &Path) -> Result<Log> {
    let bytes = match read_plain(path, limits::LEDGER) {
        Ok(bytes) => bytes,
        Err(error) if error.kind() == std::io::ErrorKind::NotFound => return Ok(Log::default()),
        Err(error) => return Err(Error::read(path)(error)),
    };
    let mut log = Log { bytes: count(bytes.len()), ..Log::default() };
    let mut damaged = 0_usize;
    for (at, line) in bytes.split_inclusive(|&b| b == b'\n').enumerate() {
        log.torn = false;
        log.ends = true;
        match line.strip_suffix(b"\n").and_then(line_of) {
            Some(Line { n, record }) => {
                let number = n.unwrap_or(at);
                log.records.insert(number, record);
                if damaged == 0 {
                    log.misplaced |= number != at;
                    log.intact += count(line.len());
                    log.whole += 1;
                }
            }
            None => {
                damaged += 1;
                log.ends = !line.ends_with(b"\n") && (at > 0 || is_unfinished(line));
                log.torn = damaged == 1 && log.ends;
            }
        }
    }
    Ok(log)
}

/// Bytes of a record's own words, numbers and check sum.
const WORDS: usize = 600;

/// About how many bytes a restore of a slot writes: what it held, what it gets, its attributes twice.
pub fn restore_bytes(key: &Key, slot: &Slot) -> u64 {
    let was = slot.stock.last().map(|original| &original.was);
    let entries = (0..=slot.layers.len()).map(|level| written(&slot.entries_at(level).made));
    count(WORDS + 2 * key.as_str().len() + 2 * written(&was) + entries.sum::<usize>())
}

/// The same of one that is about to be put.
pub fn put_bytes(put: &Put) -> u64 {
    let all = 2 * put.slot.as_str().len() + 2 * written(&put.was) + written(&put.entries);
    count(WORDS + all)
}

/// Bytes of a value as it is written.
fn written(value: &impl Serialize) -> usize {
    serde_json::to_vec(value).map_or(0, |bytes| bytes.len())
}

/// Writes bytes at the end of a file, on to the disk itself.
///
/// # Errors
/// The system's.
pub fn append(path: &Path, bytes: &[u8], disk: &dyn Disk) -> io::Result<()> {
    let mut file = disk.append(path)?;
    file.write_all(bytes)?;
    file.flush()?;
    file.sync()
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::disk::RealDisk;
    use proptest::prelude::*;

    const RECORDS: [Record; 2] = [Record::Ready, Record::Swept];

    #[test]
    fn whatever_is_cut_or_changed_the_intact_records_are_known_by_number() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ledger.log");
        let disk = RealDisk::default();
        let records = [&RECORDS[..], &RECORDS[..1]].concat();
        append(&path, lines(&records, 0).unwrap().as_bytes(), &disk).unwrap();
        let whole = std::fs::read(&path).unwrap();
        let first = whole.iter().position(|&b| b == b'\n').unwrap() + 1;
        for cut in 0..whole.len() {
            std::fs::write(&path, &whole[..cut]).unwrap();
            let log = read(&path).unwrap();
            assert_eq!(log.whole_lines(), log.records.len());
            assert_eq!(log.torn, log.intact != count(cut));
            assert!(log.records.iter().all(|(n, record)| records[*n] == *record));
        }
        for at in 0..first {
            let mut damaged = whole.clone();
            damaged[at] ^= 1;
            std::fs::write(&path, &damaged).unwrap();
            let log = read(&path).unwrap();
            assert_eq!((log.whole_lines(), log.intact, log.torn), (0, 0, false), "{at}");
            assert!(log.ends);
            assert_eq!(log.records.get(&2), Some(&Record::Ready));
        }
    }

    #[test]
    fn logs_without_numbers_are_read_in_their_order() {
        let folder = tempfile::tempdir().unwrap();
        let path = folder.path().join("ledger.log");
        let json = serde_json::to_string(&Record::Ready).unwrap();
        let line = format!("{} {json}\n", &Hash::of(json.as_bytes()).hex()[..CHECK]);
        std::fs::write(&path, line.repeat(3)).unwrap();
        assert_eq!(read(&path).unwrap().whole_lines(), 3);
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
