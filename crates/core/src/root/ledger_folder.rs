//! Where ledgers lie, and how their folders are known.

use crate::disk::read_plain;
use crate::limits;
use crate::names::LEDGER_FOLDER;
use serde::Deserialize;
use std::path::{Path, PathBuf};

/// The two files of a log.
pub(crate) const LOG: &str = "ledger.log";
pub(crate) const TWIN: &str = "stock/ledger.log";

/// Where the ledger of a root lies where nothing else is said.
pub fn usual_folder(root: &Path) -> PathBuf {
    root.join(LEDGER_FOLDER)
}

/// Whether a folder is that of a ledger: one file of its log has the record that says so.
pub fn is_ledger(folder: &Path) -> bool {
    #[derive(Deserialize)]
    struct First {
        n: Option<u64>,
        record: String,
    }
    let begins = |path: PathBuf| {
        let file = path.metadata().is_ok_and(|found| found.is_file());
        let Some(bytes) = file.then(|| read_plain(&path, limits::LEDGER).ok()).flatten() else {
            return false;
        };
        // Each line has its checksum in front, and the logs of version 1 no numbers.
        let mut lines = bytes.split(|byte| *byte == b'\n').enumerate();
        lines.any(|(at, line)| {
            let json = line.iter().position(|byte| *byte == b'{').map(|begin| &line[begin..]);
            let first = json.and_then(|json| serde_json::from_slice::<First>(json).ok());
            first.is_some_and(|first| {
                first.record == "root" && first.n.map_or(at == 0, |number| number == 0)
            })
        })
    };
    begins(folder.join(LOG)) || begins(folder.join(TWIN))
}
