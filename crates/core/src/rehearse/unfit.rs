//! What is said where something does not fit: why, what each end logs, and which lines to change.

use super::message::{ExchangeType, Notify};
use super::v2::Keys;
use super::{Cure, Failure, Play, Stage, child_name};
use crate::algorithm::Kind;
use crate::fits::proposals::{differing, nearest_two};
use crate::fits::selectors::Wanted;
use crate::gateway::{Child, Connection, IkeVersion, listed};
use crate::platform::Line;

impl<'a> Play<'a> {
    /// No connection can answer: for want of an address, or of the version.
    pub(super) fn nobody_meant(&mut self, hearing: &[&Connection]) {
        let (caller, answerer) = (self.opener, self.answerer());
        let meant = self.meant();
        let old = self.calling().version() == IkeVersion::V1;
        let none_old = self.actors[answerer].looked.gateway.connections.iter().all(|one| one.version() == IkeVersion::V2);
        let silent =
            !self.manner(answerer).answers_strangers || (old && (none_old || hearing.is_empty()) && self.manner(answerer).silent_to_v1);
        match self.calling().version() {
            _ if silent => {}
            IkeVersion::V2 => self.refuse(ExchangeType::IkeSaInit, 0, Notify::NO_PROPOSAL_CHOSEN, "RFC 7296 section 2.5"),
            IkeVersion::V1 => self.refuse_v1(answerer, Notify::V1_NO_PROPOSAL),
        }
        let (stage, here) = match silent {
            false => (Stage::IkeSa, Line::RefusedAtOnce),
            true => (Stage::Answer, Line::Unanswered),
        };
        let told = [Some(here), Some(Line::NoConnection)];
        if hearing.is_empty() {
            let from = self.places(caller).reached.map_or("that address".to_owned(), |address| address.to_string());
            let reason = format!("{} has no connection for a peer at {from}.", self.name(answerer));
            let mut cures = Vec::new();
            if meant.remote.value.address().is_some_and(|at| Some(at) != self.places(caller).reached) {
                cures.push(self.cure(answerer, &meant.remote, format!("write {from}")));
            } else if let Some(own) = self.places(answerer).own {
                cures.push(self.cure(answerer, &meant.local, format!("write {own}")));
            }
            self.fail(stage, reason, told, cures);
        } else {
            let calling = self.calling();
            let (says, wants) = (calling.ike().exchange.value.words(), meant.ike().exchange.value.words());
            let reason = format!("{} opens with {says}, {} has the connection for {wants}.", self.name(caller), self.name(answerer));
            let cures = vec![
                self.cure(answerer, &meant.ike().exchange, format!("say {says}")),
                self.cure(caller, &calling.ike().exchange, format!("or say {wants} here")),
            ];
            self.fail(stage, reason, told, cures);
        }
    }

    /// Selectors that do not fit.
    pub(super) fn unfit_selectors(&mut self, asked: &Child, answering: &Connection, told: [Option<Line>; 2]) -> &mut Failure {
        let (caller, answerer) = (self.opener, self.answerer());
        let wanted = Wanted::by_opener(asked);
        // The one of the other end that is meant: the same name, else the one that has most in common.
        let near = answering.children.iter().find(|child| child.name == asked.name);
        let near = near.or_else(|| answering.children.iter().find(|child| Wanted::by_answerer(child).shared(&wanted).is_some()));
        let near = near.or(answering.children.first());
        let mut cures = Vec::new();
        let mut reason = format!(
            "{} asks for {} to {}; {} has nothing for that.",
            self.name(caller),
            listed(&wanted.near),
            listed(&wanted.far),
            self.name(answerer)
        );
        if let Some(own) = near {
            let theirs = Wanted::by_answerer(own);
            reason = format!(
                "{} asks for {} to {}, {} has {} to {}.",
                self.name(caller),
                listed(&wanted.near),
                listed(&wanted.far),
                self.name(answerer),
                listed(&theirs.near),
                listed(&theirs.far)
            );
            if theirs.near == wanted.far && theirs.far == wanted.near {
                reason.push_str(" One of the two has its own networks and the peer's crossed.");
            }
            if theirs.near != wanted.near {
                cures.push(self.cure(answerer, &own.remote, format!("write {}", listed(&wanted.near))));
                cures.push(self.cure(caller, &asked.local, format!("or write {}", listed(&theirs.near))));
            }
            if theirs.far != wanted.far {
                cures.push(self.cure(answerer, &own.local, format!("write {}", listed(&wanted.far))));
                cures.push(self.cure(caller, &asked.remote, format!("or write {}", listed(&theirs.far))));
            }
            if theirs.protocol != wanted.protocol {
                reason.push_str(" One of the two limits them to an IP protocol.");
                cures.push(self.cure(answerer, &own.protocol, "limit both ends to the same protocol, or none"));
                cures.push(self.cure(caller, &asked.protocol, "limit both ends to the same protocol, or none"));
            }
        }
        let failure = self.fail(Stage::ChildSa, reason, told, cures);
        failure.child = child_name(asked);
        failure
    }

    /// Modes that do not fit.
    pub(super) fn unfit_mode(&mut self, asked: &Child, own: &Child, stage: Stage, told: [Option<Line>; 2]) {
        let (caller, answerer) = (self.opener, self.answerer());
        let words = |child: &Child| child.mode.value.words();
        let reason = format!("{} wants {}, {} wants {}.", self.name(caller), words(asked), self.name(answerer), words(own));
        let cures = vec![
            self.cure(answerer, &own.mode, format!("say {}", words(asked))),
            self.cure(caller, &asked.mode, format!("or say {}", words(own))),
        ];
        self.fail(stage, reason, told, cures).child = child_name(asked);
    }

    /// Proposals for ESP that do not fit; `groups`: those for PFS count.
    pub(super) fn unfit_esp(&mut self, asked: &Child, own: &Child, groups: bool, stage: Stage) -> &mut Failure {
        let (caller, answerer) = (self.opener, self.answerer());
        let mut cures = Vec::new();
        let names = [self.name(caller), self.name(answerer)];
        let plain = self.chosen(answerer, &self.esp(caller, asked, Keys::OfIke), &self.esp(answerer, own, Keys::OfIke));
        let reason = if !differing(&asked.sequence_numbers(), &own.sequence_numbers()).is_empty() {
            let bits = Child::sequence_numbers_words;
            let place = |child: &Child| child.sequence_numbers.0.clone().or_else(|| child.esp.origin.place().cloned());
            cures.push(self.cure_at(answerer, place(own).as_ref(), format!("say {}", bits(asked))));
            cures.push(self.cure_at(caller, place(asked).as_ref(), format!("or say {}", bits(own))));
            format!("Sequence numbers have {} at {} and {} at {}.", bits(asked), names[0], bits(own), names[1])
        } else if groups && plain.is_some() {
            let place = |child: &Child| child.pfs.0.clone().or_else(|| child.esp.origin.place().cloned());
            let words = |end: usize, child: &Child| {
                let mut all: Vec<_> = self
                    .esp(end, child, Keys::Own)
                    .iter()
                    .flat_map(|proposal| proposal.of(Kind::KeyExchange))
                    .map(ToString::to_string)
                    .collect();
                all.dedup();
                if all.is_empty() { "no group".to_owned() } else { all.join(" or ") }
            };
            cures.push(self.cure_at(answerer, place(own).as_ref(), format!("say {} for PFS", words(caller, asked))));
            cures.push(self.cure_at(caller, place(asked).as_ref(), format!("or say {} for PFS", words(answerer, own))));
            format!("PFS does not fit: {} at {}, {} at {}.", words(caller, asked), names[0], words(answerer, own), names[1])
        } else {
            cures.push(self.cure(answerer, &own.esp, "take what is offered"));
            cures.push(self.cure(caller, &asked.esp, "or offer what the other end has"));
            format!("No ESP proposal of the one fits one of the other.{}", nearest_two(names, &asked.esp.value, &own.esp.value))
        };
        let failure = self.fail(stage, reason, [Some(Line::EspRefused), Some(Line::NoEspProposal)], cures);
        failure.child = child_name(asked);
        failure
    }

    /// The last failure is of a request of this end: what the two log then.
    pub(super) fn swap_logs(&mut self, from: usize, [asks, answers]: [Line; 2]) {
        let version = self.calling().version();
        let mut logs = [None, None];
        logs[from] = self.manner(from).words(asks, version);
        logs[1 - from] = self.manner(1 - from).words(answers, version);
        if let Some(failure) = self.rehearsal.failures.last_mut() {
            failure.logs = logs;
        }
    }

    /// The peer is nobody that a connection is for: its identity, or the one that it asks for.
    pub(super) fn stranger(&mut self, stage: Stage) -> &mut Failure {
        let (caller, answerer) = (self.opener, self.answerer());
        let (calling, meant) = (self.calling(), self.meant());
        let mut reasons = Vec::new();
        let mut cures: Vec<Cure> = Vec::new();
        let shown = self.shown(caller, calling);
        let theirs = self.shown(answerer, meant);
        if !meant.ike().remote_identity.value.takes(&shown) {
            let (says, wants) = (shown.words(), meant.ike().remote_identity.value.words());
            reasons.push(format!("{} says that it is {says}, {} expects {wants}.", self.name(caller), self.name(answerer)));
            cures.push(self.cure(answerer, &meant.ike().remote_identity, format!("write {says}")));
            cures.push(self.cure(caller, &calling.ike().local_identity, format!("or write {wants}")));
        }
        if self.asked_identity().is_some_and(|asked| !asked.takes(&theirs)) {
            let (wants, is) = (calling.ike().remote_identity.value.words(), theirs.words());
            reasons.push(format!("{} asks for {wants}, {} is {is}.", self.name(caller), self.name(answerer)));
            cures.push(self.cure(answerer, &meant.ike().local_identity, format!("write {wants}")));
            cures.push(self.cure(caller, &calling.ike().remote_identity, format!("or write {is}")));
        }
        self.fail(stage, reasons.join(" "), [Some(Line::NotBelieved), Some(Line::PeerUnknown)], cures)
    }
}
