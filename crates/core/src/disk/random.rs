//! Names that nobody can guess.

use crate::error::{Result, internal};

/// Digits that nobody can guess.
pub(crate) fn random() -> Result<String> {
    let mut bytes = [0; 10];
    getrandom::fill(&mut bytes)
        .map_err(|error| internal(format!("the system gives no random numbers: {error}")))?;
    Ok(bytes.iter().map(|byte| format!("{byte:02x}")).collect())
}
