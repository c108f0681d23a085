//! What is not understood: where it is in the way of a verdict, none is given.

use super::message::ExchangeType;
use super::{Doubt, Play, Stage, Step};
use uspan_model::gateway::{Bearing, Connection};
use uspan_model::parameter::Parameter;
use uspan_model::source::Place;

impl ExchangeType {
    /// How far an exchange reaches.
    fn reach(self) -> Stage {
        match self {
            ExchangeType::IkeSaInit => Stage::IkeSa,
            ExchangeType::MainMode | ExchangeType::AggressiveMode => Stage::Authentication,
            // It has the first Child SA with it.
            ExchangeType::IkeAuth | ExchangeType::CreateChildSa | ExchangeType::QuickMode | ExchangeType::Informational => Stage::ChildSa,
        }
    }
}

/// In which stage a parameter is decided; nothing where it does not decide whether the tunnel comes up.
fn decided(about: Parameter) -> Option<Stage> {
    match about {
        Parameter::Address | Parameter::KeyExchange => Some(Stage::Answer),
        Parameter::IkeProposals => Some(Stage::IkeSa),
        Parameter::Identity | Parameter::Authentication => Some(Stage::Authentication),
        Parameter::Selectors | Parameter::Protocol | Parameter::EspProposals | Parameter::EspMode => Some(Stage::ChildSa),
        _ => None,
    }
}

/// What of a connection is not understood: from where on, what it is about, and where it stands.
fn doubts(connection: &Connection) -> Vec<(Stage, String, Place)> {
    let of_settings =
        connection.doubts().into_iter().filter_map(|(about, _, place)| Some((decided(about)?, about.words().to_owned(), place.clone())));
    let mut found: Vec<_> = of_settings.collect();
    for one in &connection.remainder.0 {
        let stage = match one.bearing {
            Bearing::Unknown => Stage::Answer,
            Bearing::Authentication => Stage::Authentication,
            Bearing::ChildSa => Stage::ChildSa,
            Bearing::Refused | Bearing::Aside => continue,
        };
        found.push((stage, one.words(), one.place.clone()));
    }
    found
}

impl Play<'_> {
    /// Whether a daemon does not take its connection as it stands: then nothing is sent or answered.
    pub(super) fn refused(&mut self) -> bool {
        for end in [self.initiator, self.responder()] {
            let Some(refused) = self.connections[end].remainder.bearing(Bearing::Refused) else { continue };
            let reason = format!("The daemon of {} does not take the connection `{}`.", self.name(end), self.connections[end].name);
            let cures = vec![self.cure_at(end, Some(&refused.place), "write what the daemon takes")];
            self.fail((Stage::Load, Vec::new()), reason, [None, None], cures);
            return true;
        }
        false
    }

    /// Whether two ends of one platform say the same of a setting of Child SAs, so that it fits whatever it is.
    fn said_by_both(&self, end: usize, stage: Stage, about: &str, place: &Place) -> bool {
        let said = |end: usize, place: &Place| self.actors[end].reading.spelling(place).filter(|spelling| !spelling.contains('…'));
        let other = 1 - end;
        let twins = self.connections[other].remainder.0.iter().filter(|twin| twin.bearing == Bearing::ChildSa && twin.words() == about);
        let own = said(end, place);
        stage == Stage::ChildSa
            && own.is_some()
            && std::ptr::eq(self.actors[0].behaviour, self.actors[1].behaviour)
            && twins.into_iter().any(|twin| said(other, &twin.place) == own)
    }

    /// Takes the verdict back where something that is not understood comes before it, or decides it.
    pub(super) fn doubt(&mut self) {
        let reached = self.rehearsal.stage().unwrap_or(Stage::Return);
        let mut all = Vec::new();
        for end in 0..2 {
            for (stage, about, place) in doubts(self.connections[end])
                .into_iter()
                .filter(|(stage, about, place)| !self.said_by_both(end, *stage, about, place))
                .filter(|(stage, ..)| *stage <= reached)
            {
                let spelling = self.actors[end].reading.spelling(&place);
                let doubt = Doubt { end, stage, about, place, spelling };
                if !all.contains(&doubt) {
                    all.push(doubt);
                }
            }
        }
        // Whom none of the connections that are understood knows, another one may know.
        if matches!(self.rehearsal.stage(), Some(Stage::Answer | Stage::Authentication)) {
            let end = self.responder();
            let others = self.hearing().into_iter().filter(|one| !std::ptr::eq(*one, self.connections[end]));
            let of_identity = |one: &Connection| one.ike().local_identity.doubt().or(one.ike().remote_identity.doubt()).cloned();
            all.extend(others.filter_map(of_identity).map(|place| {
                let spelling = self.actors[end].reading.spelling(&place);
                Doubt { end, stage: Stage::Authentication, about: Parameter::Identity.words().to_owned(), place, spelling }
            }));
        }
        let Some(first) = all.iter().map(|doubt| doubt.stage).min() else { return };
        all.sort_by_key(|doubt| doubt.stage);
        let known =
            self.rehearsal.steps.iter().position(|step| matches!(step, Step::Message(message) if message.exchange.reach() >= first));
        self.rehearsal.steps.truncate(known.unwrap_or(self.rehearsal.steps.len()));
        self.rehearsal.failures.clear();
        self.rehearsal.opened.clear();
        self.rehearsal.doubts = all;
    }
}
