//! Putting files in place of stock, and taking them out again.

mod archive;
mod as_is;
pub mod job;
mod restore;
mod slot;
mod status;
mod swap;
mod untell;
mod warning;

pub use as_is::{AsIs, Placed};
pub use restore::{Changed, Failed, Restored, Which, restore};
pub use slot::has_stock;
pub use status::{Condition, EntryStatus, Proof, SlotStatus, Status, status};
use swap::absolute;
pub use swap::{Prepared, Side, Swap, Swapped};
pub use warning::Warning;
