//! Putting files in place of stock, and taking them out again.

mod archive;
mod as_is;
pub mod job;
mod restore;
mod root;
mod slot;
mod status;
mod swap;
mod untell;
mod warning;

pub use as_is::{AsIs, Placed};
pub use restore::{Changed, Restored, Which, restore};
pub use root::{Found, Root, find_root, find_root_above};
pub use slot::has_stock;
pub use status::{Condition, EntryStatus, SlotStatus, Status, status};
use swap::absolute;
pub use swap::{Prepared, Side, Swap, Swapped};
pub use warning::Warning;
