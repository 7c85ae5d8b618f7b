//! How whoever calls sees progress and stops the work.

/// Watches work on frames. Every method has a harmless default.
pub trait Observer: Sync {
    /// This many more frames of the source have been worked through.
    fn advance(&self, _frames: u64) {}

    /// Whether the user wants to stop; asked once a block.
    fn stopped(&self) -> bool {
        false
    }
}

/// Watches nothing.
#[derive(Debug, Clone, Copy, Default)]
pub struct Unobserved;

impl Observer for Unobserved {}
