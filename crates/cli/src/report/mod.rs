//! Every word that is printed of what the libraries found and did.

pub mod notice;
