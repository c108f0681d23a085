//! What is not understood: where it is in the way of a verdict, none is given.

use super::message::ExchangeType;
use super::{Doubt, Play, Stage, Step};
use uspan_model::gateway::{Bearing, Connection, Setting};
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

/// What of a connection is not understood: from where on, what it is about, and where it stands.
fn doubts(connection: &Connection) -> Vec<(Stage, String, Place)> {
    let mut found = Vec::new();
    let mut of = |stage: Stage, parameter: Parameter, place: Option<&Place>| {
        found.extend(place.map(|place| (stage, parameter.words().to_owned(), place.clone())));
    };
    fn at<T>(setting: &Setting<T>) -> Option<&Place> {
        setting.doubt()
    }
    let ike = connection.ike();
    of(Stage::Answer, Parameter::Address, at(&connection.local));
    of(Stage::Answer, Parameter::Address, at(&connection.remote));
    of(Stage::Answer, Parameter::KeyExchange, at(&ike.exchange));
    of(Stage::IkeSa, Parameter::IkeProposals, at(&ike.proposals));
    of(Stage::Authentication, Parameter::Identity, at(&ike.local_identity));
    of(Stage::Authentication, Parameter::Identity, at(&ike.remote_identity));
    of(Stage::Authentication, Parameter::Authentication, at(&ike.local_method));
    of(Stage::Authentication, Parameter::Authentication, at(&ike.remote_method));
    for child in &connection.children {
        of(Stage::ChildSa, Parameter::Selectors, at(&child.local));
        of(Stage::ChildSa, Parameter::Selectors, at(&child.remote));
        of(Stage::ChildSa, Parameter::Protocol, at(&child.protocol));
        of(Stage::ChildSa, Parameter::EspProposals, at(&child.esp));
        of(Stage::ChildSa, Parameter::EspMode, at(&child.mode));
        of(Stage::ChildSa, Parameter::Selectors, at(&child.narrowing));
    }
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
        let reached = self.rehearsal.stage().unwrap_or(Stage::RekeyIke);
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
