//! Where this program keeps what is this user's.

use etcetera::BaseStrategy as _;
use std::path::{Path, PathBuf};

/// The variable that names the folder of what is kept for this user.
pub const DATA: &str = "DEFT_NEEDLE_DATA";

/// The folder of what is kept for this user.
pub fn data_folder() -> Option<PathBuf> {
    // Tests leave what is the user's alone.
    if cfg!(test) {
        let own = format!("../../target/test-data/{}", std::process::id());
        return Some(Path::new(env!("CARGO_MANIFEST_DIR")).join(own));
    }
    match std::env::var_os(DATA).filter(|named| !named.is_empty()) {
        Some(named) => Some(PathBuf::from(named)),
        None => Some(etcetera::choose_base_strategy().ok()?.data_dir().join("deft-needle")),
    }
}
