//! What is said where something does not fit: why, what each end logs, and which lines to change.

use std::collections::BTreeSet;

use super::message::{ExchangeType, Notify};
use super::v2::KeySource;
use super::{Cause, Cure, Play, RehearsalFailure, Stage, child_name};
use crate::fits::proposals::{Suite, differing, nearest_two};
use crate::fits::selectors::Wanted;
use uspan_dialects::profile::{Line, OddKey, ToStrangers};
use uspan_model::algorithm::{Kind, Row};
use uspan_model::gateway::{Child, Connection, Encapsulation, IkeVersion, OnDeadPeer, Passing, Proposal, listed};
use uspan_model::parameter::Parameter;

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
            let mut cause = Cause::at(Parameter::Address, responder);
            let reached = self.places(initiator).reached;
            if reached.is_some_and(|from| responding.remote.value.takes(from) == Some(false)) {
                cures.push(self.cure(responder, &responding.remote, format!("write {from}")));
                cause = Cause::at(Parameter::Address, initiator);
            } else {
                let own = self.places(responder).own.map_or("its own address".to_owned(), |own| own.to_string());
                cures.push(self.cure(responder, &responding.local, format!("write {own}")));
            }
            self.fail((stage, vec![cause]), reason, told, cures);
        } else {
            let initiating = self.initiating();
            let (says, wants) = (initiating.ike().exchange.value.words(), responding.ike().exchange.value.words());
            let reason = format!("{} opens with {says}, {} has the connection for {wants}.", self.name(initiator), self.name(responder));
            let cures = vec![
                self.cure(responder, &responding.ike().exchange, format!("say {says}")),
                self.cure(initiator, &initiating.ike().exchange, format!("or say {wants} here")),
            ];
            let versions = [initiating, responding].map(Connection::version);
            let parameter = if versions[0] == versions[1] { Parameter::ExchangeMode } else { Parameter::KeyExchange };
            self.fail((stage, vec![parameter.into()]), reason, told, cures);
        }
    }

    /// Child SAs of the responder that nobody asks for.
    pub(super) fn left_over(&mut self, answering: &Connection) {
        let (initiator, responder) = (self.initiator, self.responder());
        if !self.rehearsal.failures.is_empty() {
            return;
        }
        for own in &answering.children {
            // One that says the same as another is there with that.
            let mut pairs = Wanted::by_responder(own).pairs().into_iter().map(|(near, far)| (far, near)).collect::<Vec<_>>();
            pairs.sort();
            if self.rehearsal.opened.iter().any(|opened| opened.names[responder] == own.name || opened.selectors[responder] == pairs) {
                continue;
            }
            let reason = format!(
                "{} has {} to {} as well; {} does not ask for that.",
                self.name(responder),
                listed(&own.local.value),
                listed(&own.remote.value),
                self.name(initiator)
            );
            let mut children = [None, None];
            children[responder] = child_name(own);
            let cause = Cause { children, ..Parameter::Selectors.into() };
            let cures = vec![self.cure(responder, &own.local, "add it at the other end, or remove it here")];
            let name = child_name(own);
            self.fail((Stage::ChildSa, vec![cause]), reason, [None, None], cures).child = name;
        }
    }

    /// An end behind a NAT device that nobody reaches any more once nothing was sent for a while.
    pub(super) fn forgotten(&mut self) {
        if !self.rehearsal.failures.is_empty() {
            return;
        }
        let (initiator, responder) = (self.initiator, self.responder());
        let connections = self.connections;
        let version = connections[initiator].version();
        let kept = |play: &Self, end: usize| play.behaviour(end).is_remembered_by_nat(version, connections[end].ike().liveness.value);
        // Who opens as well has a device before the other one that forwards; and what keeps a mapping keeps those on the way.
        let opened_to = connections[responder].children.iter().any(|child| child.opening.value.opens());
        let unencapsulated = connections[initiator].encapsulation.value == Encapsulation::Off;
        if !self.translated(initiator) || opened_to || unencapsulated || kept(self, initiator) {
            return;
        }
        if connections[responder].ike().liveness.value.is_some() || self.translated(responder) && kept(self, responder) {
            return;
        }
        let (name, peer) = (self.name(initiator), self.name(responder));
        let reason = format!(
            "A NAT device stands before {name}, which sends nothing that keeps its mapping; after a minute or two without packets \
             what {peer} sends does not arrive any more."
        );
        let cures = vec![self.cure(initiator, &connections[initiator].ike().liveness, "ask every 30 s whether the peer is alive")];
        self.fail((Stage::Silence, vec![Cause::at(Parameter::Liveness, initiator)]), reason, [None, None], cures);
    }

    /// An end that opens, and after a restart of its peer waits for packets that no host of its own may send first.
    pub(super) fn not_reopened(&mut self) {
        if !self.rehearsal.failures.is_empty() {
            return;
        }
        let (initiator, responder) = (self.initiator, self.responder());
        if self.connections[responder].children.iter().any(|child| child.opening.value.opens()) {
            return;
        }
        let waits = |child: &&Child| child.on_dead_peer.value == Some(OnDeadPeer::AwaitTraffic);
        let Some(child) = self.connections[initiator].children.iter().find(waits) else { return };
        if self.actors[initiator].reading.gateway.hosts_may_open() != Passing::Only(Vec::new()) {
            return;
        }
        let (name, peer) = (self.name(initiator), self.name(responder));
        let reason = format!(
            "When {peer} was started again, {name} finds the SAs dead and waits for the next packet of its hosts; the filter lets them \
             open no connection, and {peer} does not open the tunnel itself."
        );
        let cures = vec![self.cure(initiator, &child.on_dead_peer, "open it anew when the peer is dead")];
        self.fail((Stage::Return, vec![Cause::at(Parameter::DeadPeer, initiator)]), reason, [None, None], cures);
    }

    /// ESP that is to travel in UDP, and does not at an end whose kernel is not told so.
    pub(super) fn not_in_udp(&mut self, asked: &Child, own: &Child, suite: &Suite) {
        let odd = suite.of(Kind::Encryption).filter(|cipher| cipher.row().is_some_and(Row::has_odd_key));
        let Some(cipher) = odd else { return };
        let Some(end) = [0, 1].into_iter().find(|end| self.behaviour(*end).odd_key == OddKey::NotInUdp) else { return };
        let forced = [0, 1].into_iter().find(|end| self.connections[*end].encapsulation.value == Encapsulation::Forced);
        let device = [0, 1].into_iter().find(|end| self.translated(*end));
        let why = match (forced, device) {
            (Some(by), _) => format!("{} wants ESP in UDP", self.name(by)),
            (None, Some(before)) => format!("a NAT device stands before {}, so that ESP travels in UDP", self.name(before)),
            (None, None) => return,
        };
        let reason =
            format!("{why}; with the key of `{cipher}` the kernel of {} is not told so, and the packets do not meet.", self.name(end));
        let proposals = if end == self.initiator { &asked.esp } else { &own.esp };
        let mut cures = vec![self.cure(end, proposals, "another cipher than CCM, such as GCM, at both ends")];
        cures.extend(forced.map(|by| self.cure(by, &self.connections[by].encapsulation, "ESP in UDP only where a NAT device is found")));
        let name = child_name(asked);
        let causes = vec![Parameter::EspProposals.into(), Cause::at(Parameter::Encapsulation, forced.unwrap_or(end))];
        self.fail((Stage::Crossing, causes), reason, [None, None], cures).child = name;
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
        let protocols = near.is_some_and(|own| {
            let theirs = Wanted::by_responder(own);
            Wanted { protocol: theirs.protocol, ports: theirs.ports, ..wanted.clone() } == theirs
        });
        let apart = if protocols && near.is_some_and(|own| !Wanted::by_responder(own).is_limited_as(&wanted)) {
            Parameter::Protocol
        } else {
            Parameter::Selectors
        };
        let cause = self.of_children(apart, asked, near);
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
            if theirs.near == wanted.far && theirs.far == wanted.near && wanted.near != wanted.far {
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
            if !theirs.is_limited_as(&wanted) {
                reason.push_str(" The two limit them to other IP protocols or ports.");
                cures.push(self.cure(responder, &own.protocol, "limit both ends to the same protocol and ports, or none"));
                cures.push(self.cure(initiator, &asked.protocol, "limit both ends to the same protocol and ports, or none"));
            }
        }
        let failure = self.fail((Stage::ChildSa, vec![cause]), reason, told, cures);
        failure.child = child_name(asked);
        failure
    }

    /// Selectors that fit, of which the responder's transport mode leaves nothing, or too little for the initiator.
    pub(super) fn only_between_hosts(&mut self, asked: &Child, own: &Child, told: [Option<Line>; 2]) {
        let responder = self.responder();
        let reason = format!(
            "{} has transport mode, in which it leaves out networks that are not the two gateways themselves: nothing is left for {}.",
            self.name(responder),
            self.name(self.initiator)
        );
        let (parameter, cure) = match asked.mode == own.mode {
            true => (Parameter::Selectors, self.cure(responder, &own.local, "name the two gateways alone")),
            false => (Parameter::EspMode, self.cure(responder, &own.mode, "say tunnel mode")),
        };
        let cause = self.of_children(parameter, asked, Some(own));
        self.fail((Stage::ChildSa, vec![cause]), reason, told, vec![cure]).child = child_name(asked);
    }

    /// What does not fit where an initiator in transport mode has nothing to ask for, and what to do.
    pub(super) fn nothing_to_ask(&self, asked: &Child) -> (Cause, Vec<Cure>) {
        let initiator = self.initiator;
        let own = self.responding().children.iter().find(|own| Wanted::by_responder(own).shared(&Wanted::by_initiator(asked)).is_some());
        let own = own.or(self.responding().children.first());
        match own.is_some_and(|own| own.mode == asked.mode) {
            true => {
                let cure = self.cure(initiator, &asked.local, "name the two gateways alone, or say tunnel mode");
                (self.of_children(Parameter::Selectors, asked, own), vec![cure])
            }
            false => (self.of_children(Parameter::EspMode, asked, own), vec![self.cure(initiator, &asked.mode, "say tunnel mode")]),
        }
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
        let cause = self.of_children(Parameter::EspMode, asked, Some(own));
        self.fail((stage, vec![cause]), reason, told, cures).child = child_name(asked);
    }

    /// Proposals for ESP that do not fit; `groups`: those for PFS count.
    pub(super) fn unfit_esp(&mut self, asked: &Child, own: &Child, groups: bool, stage: Stage) -> &mut RehearsalFailure {
        let (initiator, responder) = (self.initiator, self.responder());
        let mut cures = Vec::new();
        let names = [self.name(initiator), self.name(responder)];
        let plain = self.chosen(responder, &self.esp(initiator, asked, KeySource::OfIke), &self.esp(responder, own, KeySource::OfIke));
        let groups_of = |end: usize, child: &Child| {
            // One of several proposals may have none.
            let each = |proposal: &Proposal| match proposal.of(Kind::KeyExchange) {
                [] => vec!["no group".to_owned()],
                groups => groups.iter().map(ToString::to_string).collect(),
            };
            let mut all: Vec<_> = self.esp(end, child, KeySource::Own).iter().flat_map(each).collect();
            let mut seen = BTreeSet::new();
            all.retain(|group| seen.insert(group.clone()));
            all.join(" or ")
        };
        let [theirs, ours] = [groups_of(initiator, asked), groups_of(responder, own)];
        let numbers = [asked, own].map(Child::sequence_numbers);
        // With the same groups it is the numbers, of which IKEv1 takes those of one proposal.
        let by_numbers = !differing(&numbers[0], &numbers[1]).is_empty() || theirs == ours && numbers[0] != numbers[1];
        let mut parameter = Parameter::EspProposals;
        let reason = if by_numbers {
            parameter = Parameter::SequenceNumbers;
            let bits = Child::sequence_numbers_words;
            let place = |child: &Child| child.sequence_numbers.0.clone().or_else(|| child.esp.origin.place().cloned());
            cures.push(self.cure_at(responder, place(own).as_ref(), format!("say {}", bits(asked))));
            cures.push(self.cure_at(initiator, place(asked).as_ref(), format!("or say {}", bits(own))));
            format!("Sequence numbers have {} at {} and {} at {}.", bits(asked), names[0], bits(own), names[1])
        } else if groups && plain.is_some() {
            parameter = Parameter::Pfs;
            let place = |child: &Child| child.pfs.0.clone().or_else(|| child.esp.origin.place().cloned());
            cures.push(self.cure_at(responder, place(own).as_ref(), format!("say {theirs} for PFS")));
            cures.push(self.cure_at(initiator, place(asked).as_ref(), format!("or say {ours} for PFS")));
            format!("PFS does not fit: {theirs} at {}, {ours} at {}.", names[0], names[1])
        } else {
            cures.push(self.cure(responder, &own.esp, "take what is offered"));
            cures.push(self.cure(initiator, &asked.esp, "or offer what the other end has"));
            format!("No ESP proposal of the one fits one of the other.{}", nearest_two(names, &asked.esp.value, &own.esp.value))
        };
        let cause = self.of_children(parameter, asked, Some(own));
        let failure = self.fail((stage, vec![cause]), reason, [Some(Line::EspRefused), Some(Line::NoEspProposal)], cures);
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
        let mut causes = Vec::new();
        let mut cures: Vec<Cure> = Vec::new();
        let shown = self.shown(initiator, initiating);
        let theirs = self.shown(responder, responding);
        if !responding.ike().remote_identity.value.takes(&shown) {
            let (says, wants) = (shown.words(), responding.ike().remote_identity.value.words());
            causes.push(Cause::at(Parameter::Identity, initiator));
            reasons.push(format!("{} says that it is {says}, {} expects {wants}.", self.name(initiator), self.name(responder)));
            cures.push(self.cure(responder, &responding.ike().remote_identity, format!("write {says}")));
            cures.push(self.cure(initiator, &initiating.ike().local_identity, format!("or write {wants}")));
        }
        if self.asked_identity().is_some_and(|asked| !asked.takes(&theirs)) {
            let (wants, is) = (initiating.ike().remote_identity.value.words(), theirs.words());
            causes.push(Cause::at(Parameter::Identity, responder));
            reasons.push(format!("{} asks for {wants}, {} is {is}.", self.name(initiator), self.name(responder)));
            cures.push(self.cure(responder, &responding.ike().local_identity, format!("write {wants}")));
            cures.push(self.cure(initiator, &initiating.ike().remote_identity, format!("or write {is}")));
        }
        if causes.is_empty() {
            causes = vec![Cause::at(Parameter::Identity, initiator), Cause::at(Parameter::Identity, responder)];
        }
        self.fail((stage, causes), reasons.join(" "), [Some(Line::NotBelieved), Some(Line::PeerUnknown)], cures)
    }
}
