//! How a slot's file comes about.

use super::OutsideEncoder;
use schemars::JsonSchema;
use serde::{Deserialize, Serialize};

/// How a slot's file is made of a clip.
#[derive(Debug, Clone, Default, PartialEq, Eq, JsonSchema, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Method {
    /// The clip is fitted; for a closed format, by the encoder that its rule names.
    #[default]
    Fit,
    /// The clip is a finished file that goes in byte for byte.
    AsIs,
    /// The clip is fitted for this encoder, which makes the file.
    Encoder(OutsideEncoder),
}
