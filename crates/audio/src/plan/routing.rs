//! Which channels of the clip feed which of the output.

use super::Decision;
use crate::edit::Edits;
use crate::error::{Error, Result};
use crate::shape::route::{Fold, Law, Route};
use crate::spec::{Channels, Format};
use crate::unmet::Unmet;

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
    let law = Route::usual(own.channels, to.channels).ok_or_else(|| {
        Error::CannotMeet(Unmet::NoUsualRoute {
            from: own.channels.to_string(),
            to: to.channels.to_string(),
        })
    })?;
    decisions.push(Decision::Routed {
        from: own.channels.to_string(),
        to: to.channels.to_string(),
        law: law.clone(),
    });
    Ok(Some(law))
}

fn route_as_asked(own: Format, route: &Route, decisions: &mut Vec<Decision>) -> Result<Law> {
    let most = route.0.iter().flatten().map(|(channel, _)| channel + 1).max();
    let count = usize::from(own.channels.count());
    if most.is_some_and(|most| most > count) {
        return Err(Error::CannotMeet(Unmet::RouteBeyondClip {
            channel: most.unwrap_or_default(),
            channels: count,
        }));
    }
    let law = Law { route: route.clone(), fold: Fold::Requested, scale: None };
    let to = u16::try_from(route.0.len()).ok().and_then(Channels::new);
    decisions.push(Decision::Routed {
        from: own.channels.to_string(),
        to: to.map_or_else(String::new, |to| to.to_string()),
        law: law.clone(),
    });
    Ok(law)
}
