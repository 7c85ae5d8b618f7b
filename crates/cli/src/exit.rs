//! How a run ended, as the system is told.

use schemars::JsonSchema;
use serde::Serialize;
use std::process::ExitCode;

/// The exit codes, from good to bad; of several, the highest counts.
#[derive(Debug, Clone, Copy, PartialEq, Eq, PartialOrd, Ord, JsonSchema, Serialize)]
#[serde(rename_all = "kebab-case")]
pub enum Exit {
    /// Done.
    Done = 0,
    /// Ran, and found something that fails the spec.
    Short = 1,
    /// Wrong usage.
    Usage = 2,
    /// An input that cannot be read.
    Unreadable = 3,
    /// A spec that this clip cannot meet without the user's word.
    CannotMeet = 4,
    /// The target refused.
    Refused = 5,
    /// An output that could not be written.
    Unwritten = 6,
    /// Stopped by the user.
    Interrupted = 130,
}

impl Exit {
    /// The higher of both.
    pub fn worst(self, other: Self) -> Self {
        self.max(other)
    }

    /// The number.
    pub fn code(self) -> u8 {
        match self {
            Self::Done => 0,
            Self::Short => 1,
            Self::Usage => 2,
            Self::Unreadable => 3,
            Self::CannotMeet => 4,
            Self::Refused => 5,
            Self::Unwritten => 6,
            Self::Interrupted => 130,
        }
    }
}

impl From<Exit> for ExitCode {
    fn from(exit: Exit) -> Self {
        exit.code().into()
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn the_highest_counts() {
        use Exit::{CannotMeet, Done, Refused, Short, Unreadable, Unwritten, Usage};
        let all = [Done, Short, Usage, Unreadable, CannotMeet, Refused, Unwritten];
        for (code, exit) in (0..).zip(all) {
            assert_eq!(exit.code(), code);
            for other in all {
                assert_eq!(exit.worst(other).code(), exit.code().max(other.code()));
            }
        }
    }
}
