//! Which channels of the clip feed which of the output.

use super::Decision;
use crate::edit::Edits;
use crate::error::{Error, Result};
use crate::shape::route::{Law, Route};
use crate::spec::{Channels, Format};

pub fn plan_route(
    own: Format,
    to: Format,
    edits: &Edits,
    decisions: &mut Vec<Decision>,
) -> Result<Option<Law>> {
    if let Some(route) = &edits.route {
        return route_as_asked(own, route, decisions).map(Some);
    }
    if own.channels.count() == to.channels.count() {
        return Ok(None);
    }
    let law = Route::usual(own.channels, to.channels).ok_or_else(|| Error::CannotMeet {
        what: format!("there is no usual way from {} channels to {}", own.channels, to.channels),
        instead: "ask for mono, or for as many channels as the clip has".to_owned(),
    })?;
    decisions.push(Decision {
        about: "channels",
        what: format!("{} to {}: {}", own.channels, to.channels, law.about),
        why: match to.channels {
            Channels::MONO => "the target wants mono".to_owned(),
            wanted => format!("the target wants {wanted}"),
        },
    });
    Ok(Some(law))
}

fn route_as_asked(own: Format, route: &Route, decisions: &mut Vec<Decision>) -> Result<Law> {
    let most = route.0.iter().flatten().map(|(channel, _)| channel + 1).max();
    let count = usize::from(own.channels.count());
    if most.is_some_and(|most| most > count) {
        return Err(Error::CannotMeet {
            what: format!(
                "the route uses channel {}, and the clip has {count}",
                most.unwrap_or_default()
            ),
            instead: "use only channels that the clip has".to_owned(),
        });
    }
    let about = route.to_string();
    decisions.push(Decision {
        about: "channels",
        what: match route.0.len() {
            1 => format!("{} to mono: {about}", own.channels),
            count => format!("{} to {count} channels: {about}", own.channels),
        },
        why: "the route was asked for".to_owned(),
    });
    Ok(Law { route: route.clone(), about })
}
