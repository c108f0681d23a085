//! What is said where something does not fit: why, what each end logs, and which lines to change.

use super::message::{ExchangeType, Notify};
use super::v2::KeySource;
use super::{Cure, Play, RehearsalFailure, Stage, child_name};
use crate::algorithm::Kind;
use crate::fits::proposals::{differing, nearest_two};
use crate::fits::selectors::Wanted;
use crate::gateway::{Child, Connection, IkeVersion, listed};
use crate::platform::{Line, ToStrangers};

impl<'a> Play<'a> {
    /// No connection can answer: for want of an address, or of the version.
    pub(super) fn nobody_meant(&mut self, hearing: &[&Connection]) {
        let (initiator, responder) = (self.initiator, self.responder());
        let responding = self.responding();
        let old = self.initiating().version() == IkeVersion::V1;
        let none_old = self.actors[responder].reading.gateway.connections.iter().all(|one| one.version() == IkeVersion::V2);
        let silent = match self.behaviour(responder).strangers.value {
            ToStrangers::Refuses => false,
            ToStrangers::RefusesInV2 => old && (none_old || hearing.is_empty()),
            ToStrangers::Silent => true,
        };
        match self.initiating().version() {
            _ if silent => {}
            IkeVersion::V2 => self.refuse(ExchangeType::IkeSaInit, 0, Notify::NO_PROPOSAL_CHOSEN, "RFC 7296 section 2.5"),
            IkeVersion::V1 => self.refuse_v1(responder, Notify::V1_NO_PROPOSAL),
        }
        let (stage, here) = match silent {
            false => (Stage::IkeSa, Line::RefusedAtOnce),
            true => (Stage::Answer, Line::Unanswered),
        };
        let told = [Some(here), Some(Line::NoConnection)];
        if hearing.is_empty() {
            let from = self.places(initiator).reached.map_or("that address".to_owned(), |address| address.to_string());
            let reason = format!("{} has no connection for a peer at {from}.", self.name(responder));
            let mut cures = Vec::new();
            if responding.remote.value.address().is_some_and(|at| Some(at) != self.places(initiator).reached) {
                cures.push(self.cure(responder, &responding.remote, format!("write {from}")));
            } else if let Some(own) = self.places(responder).own {
                cures.push(self.cure(responder, &responding.local, format!("write {own}")));
            }
            self.fail(stage, reason, told, cures);
        } else {
            let initiating = self.initiating();
            let (says, wants) = (initiating.ike().exchange.value.words(), responding.ike().exchange.value.words());
            let reason = format!("{} opens with {says}, {} has the connection for {wants}.", self.name(initiator), self.name(responder));
            let cures = vec![
                self.cure(responder, &responding.ike().exchange, format!("say {says}")),
                self.cure(initiator, &initiating.ike().exchange, format!("or say {wants} here")),
            ];
            self.fail(stage, reason, told, cures);
        }
    }

    /// Selectors that do not fit.
    pub(super) fn unfit_selectors(&mut self, asked: &Child, answering: &Connection, told: [Option<Line>; 2]) -> &mut RehearsalFailure {
        let (initiator, responder) = (self.initiator, self.responder());
        let wanted = Wanted::by_initiator(asked);
        // The connection of the other end that is to respond: the same name, else the one that has most in common.
        let near = answering.children.iter().find(|child| child.name == asked.name);
        let near = near.or_else(|| answering.children.iter().find(|child| Wanted::by_responder(child).shared(&wanted).is_some()));
        let near = near.or(answering.children.first());
        let mut cures = Vec::new();
        let mut reason = format!(
            "{} asks for {} to {}; {} has nothing for that.",
            self.name(initiator),
            listed(&wanted.near),
            listed(&wanted.far),
            self.name(responder)
        );
        if let Some(own) = near {
            let theirs = Wanted::by_responder(own);
            reason = format!(
                "{} asks for {} to {}, {} has {} to {}.",
                self.name(initiator),
                listed(&wanted.near),
                listed(&wanted.far),
                self.name(responder),
                listed(&theirs.near),
                listed(&theirs.far)
            );
            if theirs.near == wanted.far && theirs.far == wanted.near {
                reason.push_str(" One of the two has its own networks and the peer's crossed.");
            }
            if theirs.near != wanted.near {
                cures.push(self.cure(responder, &own.remote, format!("write {}", listed(&wanted.near))));
                cures.push(self.cure(initiator, &asked.local, format!("or write {}", listed(&theirs.near))));
            }
            if theirs.far != wanted.far {
                cures.push(self.cure(responder, &own.local, format!("write {}", listed(&wanted.far))));
                cures.push(self.cure(initiator, &asked.remote, format!("or write {}", listed(&theirs.far))));
            }
            if theirs.protocol != wanted.protocol {
                reason.push_str(" One of the two limits them to an IP protocol.");
                cures.push(self.cure(responder, &own.protocol, "limit both ends to the same protocol, or none"));
                cures.push(self.cure(initiator, &asked.protocol, "limit both ends to the same protocol, or none"));
            }
        }
        let failure = self.fail(Stage::ChildSa, reason, told, cures);
        failure.child = child_name(asked);
        failure
    }

    /// Modes that do not fit.
    pub(super) fn unfit_mode(&mut self, asked: &Child, own: &Child, stage: Stage, told: [Option<Line>; 2]) {
        let (initiator, responder) = (self.initiator, self.responder());
        let words = |child: &Child| child.mode.value.words();
        let reason = format!("{} wants {}, {} wants {}.", self.name(initiator), words(asked), self.name(responder), words(own));
        let cures = vec![
            self.cure(responder, &own.mode, format!("say {}", words(asked))),
            self.cure(initiator, &asked.mode, format!("or say {}", words(own))),
        ];
        self.fail(stage, reason, told, cures).child = child_name(asked);
    }

    /// Proposals for ESP that do not fit; `groups`: those for PFS count.
    pub(super) fn unfit_esp(&mut self, asked: &Child, own: &Child, groups: bool, stage: Stage) -> &mut RehearsalFailure {
        let (initiator, responder) = (self.initiator, self.responder());
        let mut cures = Vec::new();
        let names = [self.name(initiator), self.name(responder)];
        let plain = self.chosen(responder, &self.esp(initiator, asked, KeySource::OfIke), &self.esp(responder, own, KeySource::OfIke));
        let reason = if !differing(&asked.sequence_numbers(), &own.sequence_numbers()).is_empty() {
            let bits = Child::sequence_numbers_words;
            let place = |child: &Child| child.sequence_numbers.0.clone().or_else(|| child.esp.origin.place().cloned());
            cures.push(self.cure_at(responder, place(own).as_ref(), format!("say {}", bits(asked))));
            cures.push(self.cure_at(initiator, place(asked).as_ref(), format!("or say {}", bits(own))));
            format!("Sequence numbers have {} at {} and {} at {}.", bits(asked), names[0], bits(own), names[1])
        } else if groups && plain.is_some() {
            let place = |child: &Child| child.pfs.0.clone().or_else(|| child.esp.origin.place().cloned());
            let words = |end: usize, child: &Child| {
                let mut all: Vec<_> = self
                    .esp(end, child, KeySource::Own)
                    .iter()
                    .flat_map(|proposal| proposal.of(Kind::KeyExchange))
                    .map(ToString::to_string)
                    .collect();
                all.dedup();
                if all.is_empty() { "no group".to_owned() } else { all.join(" or ") }
            };
            cures.push(self.cure_at(responder, place(own).as_ref(), format!("say {} for PFS", words(initiator, asked))));
            cures.push(self.cure_at(initiator, place(asked).as_ref(), format!("or say {} for PFS", words(responder, own))));
            format!("PFS does not fit: {} at {}, {} at {}.", words(initiator, asked), names[0], words(responder, own), names[1])
        } else {
            cures.push(self.cure(responder, &own.esp, "take what is offered"));
            cures.push(self.cure(initiator, &asked.esp, "or offer what the other end has"));
            format!("No ESP proposal of the one fits one of the other.{}", nearest_two(names, &asked.esp.value, &own.esp.value))
        };
        let failure = self.fail(stage, reason, [Some(Line::EspRefused), Some(Line::NoEspProposal)], cures);
        failure.child = child_name(asked);
        failure
    }

    /// The last failure is of a request of this end: what the two log then.
    pub(super) fn swap_logs(&mut self, from: usize, [asks, answers]: [Line; 2]) {
        let version = self.initiating().version();
        let mut logs = [None, None];
        logs[from] = self.behaviour(from).words(asks, version).map(str::to_owned);
        logs[1 - from] = self.behaviour(1 - from).words(answers, version).map(str::to_owned);
        if let Some(failure) = self.rehearsal.failures.last_mut() {
            failure.logs = logs;
        }
    }

    /// The peer is nobody that a connection is for: its identity, or the one that it asks for.
    pub(super) fn stranger(&mut self, stage: Stage) -> &mut RehearsalFailure {
        let (initiator, responder) = (self.initiator, self.responder());
        let (initiating, responding) = (self.initiating(), self.responding());
        let mut reasons = Vec::new();
        let mut cures: Vec<Cure> = Vec::new();
        let shown = self.shown(initiator, initiating);
        let theirs = self.shown(responder, responding);
        if !responding.ike().remote_identity.value.takes(&shown) {
            let (says, wants) = (shown.words(), responding.ike().remote_identity.value.words());
            reasons.push(format!("{} says that it is {says}, {} expects {wants}.", self.name(initiator), self.name(responder)));
            cures.push(self.cure(responder, &responding.ike().remote_identity, format!("write {says}")));
            cures.push(self.cure(initiator, &initiating.ike().local_identity, format!("or write {wants}")));
        }
        if self.asked_identity().is_some_and(|asked| !asked.takes(&theirs)) {
            let (wants, is) = (initiating.ike().remote_identity.value.words(), theirs.words());
            reasons.push(format!("{} asks for {wants}, {} is {is}.", self.name(initiator), self.name(responder)));
            cures.push(self.cure(responder, &responding.ike().local_identity, format!("write {wants}")));
            cures.push(self.cure(initiator, &initiating.ike().remote_identity, format!("or write {is}")));
        }
        self.fail(stage, reasons.join(" "), [Some(Line::NotBelieved), Some(Line::PeerUnknown)], cures)
    }
}
