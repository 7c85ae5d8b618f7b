//! Pieces of the part that is used, as a loop that takes the clip's place.

use super::Selection;
use crate::edit::{Edits, TextureEdit, TooLong};
use crate::error::{Error, Result};
use crate::observe::Observer;
use crate::plan::Decision;
use crate::read::Clip;
use crate::seam::texture;
use crate::units::FrameRange;
use crate::unmet::Unmet;

/// Chooses the pieces. From here on the selection is one of the loop that they make.
///
/// # Errors
/// [`Error::CannotMeet`] where the part is too short for the loop, or something else is asked of it; those of reading.
pub fn set_texture(
    clip: &Clip,
    edits: &Edits,
    selection: Selection,
    observer: &dyn Observer,
) -> Result<Selection> {
    if let Some(option) = against(edits) {
        return Err(Error::CannotMeet(Unmet::TextureLoops { option }));
    }
    let rate = clip.facts().format.rate;
    let longest = edits.longest.map(|longest| longest.frames(rate));
    let asked = match edits.texture {
        Some(TextureEdit::Lasting(time)) => {
            let most = longest.filter(|_| edits.too_long != TooLong::Refuse);
            Some(time.frames(rate).min(most.unwrap_or(u64::MAX)))
        }
        _ => None,
    };
    let texture = texture(clip, selection.range, asked, longest, observer)?;
    let Selection { dc, mut decisions, .. } = selection;
    let frames = texture.frames();
    decisions.push(Decision::Textured {
        pieces: texture.pieces.len(),
        fade: rate.seconds(texture.fade),
        seconds: rate.seconds(frames),
    });
    let whole = FrameRange { start: 0, end: frames };
    Ok(Selection {
        range: whole,
        dc,
        looped: Some(whole),
        sets_loop: true,
        wraps: true,
        texture: Some(texture),
        decisions,
        ..Selection::whole(clip.facts())
    })
}

/// An option that asks for another loop, or would break this one.
fn against(edits: &Edits) -> Option<&'static str> {
    let asked = [
        (edits.looped.is_some(), "loop"),
        (edits.loop_direction.is_some_and(|direction| !direction.is_forward()), "loop-direction"),
        (edits.tail.is_some(), "tail"),
        (edits.loop_snap.is_some(), "loop-snap"),
        (edits.crossfade.is_some(), "crossfade"),
        (edits.stretch.is_some(), "stretch"),
        (edits.fit_length.is_some(), "fit-length"),
    ];
    asked.into_iter().find(|(asked, _)| *asked).map(|(_, option)| option)
}
