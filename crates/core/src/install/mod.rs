//! Putting files in place of stock, and taking them out again.

mod as_is;
mod restore;
mod root;
mod slot;
mod status;
mod swap;
mod warning;

pub use as_is::{AsIs, Placed};
pub use restore::{Changed, Restored, restore};
pub use root::{Found, Root, find_root, find_root_above};
pub use slot::has_stock;
pub use status::{Condition, SlotStatus, status};
pub use swap::{Prepared, Side, Swap, Swapped};
pub use warning::Warning;
