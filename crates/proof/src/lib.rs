//! A page of HTML that shows and plays replacements beside what they replace. All that it needs is in it; it asks nothing
//! of any network, and says so to the browser.
//!
//! [`draw`] and [`sound`] make of a clip what the page shows and plays; [`page`] puts it together. Words come from whoever
//! calls; whatever comes from names, texts and sheets is escaped by the template.

pub mod draw;
pub mod page;
pub mod sound;

pub use draw::Drawn;
pub use page::{Card, Page, Side, Sounds};
