//! Every word that is printed of what the libraries found and did.

pub mod check;
pub mod error;
pub mod notice;
pub mod plan;
pub mod refusal;
#[cfg(test)]
mod tests;
pub mod unmet;
