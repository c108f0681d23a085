//! Who hears whom: addresses, filters, and the connections that can answer.

use std::collections::BTreeMap;
use std::net::IpAddr;

use super::{Actor, Cause, Cure, Play, Stage};
use uspan_dialects::profile::Line;
use uspan_model::gateway::{Carrier, Connection, Endpoint, IKE_PORT, is_private};
use uspan_model::parameter::Parameter;

/// The connections of a gateway, found by the peer that they are for.
pub(super) struct Listeners<'a> {
    by_peer: BTreeMap<IpAddr, Vec<&'a Connection>>,
    /// Those for a peer whose address is not fixed.
    open: Vec<&'a Connection>,
}

impl<'a> Listeners<'a> {
    pub(super) fn of(connections: &'a [Connection]) -> Self {
        let mut listeners = Listeners { by_peer: BTreeMap::new(), open: Vec::new() };
        for connection in connections {
            match &connection.remote.value {
                Endpoint::At(address) => listeners.by_peer.entry(*address).or_default().push(connection),
                _ => listeners.open.push(connection),
            }
        }
        listeners
    }

    /// Those that can answer a packet from a peer to an own address; those that name the peer first.
    fn hearing(&self, from: Option<IpAddr>, to: Option<IpAddr>) -> Vec<&'a Connection> {
        let at = |connection: &&&Connection| connection.local.value.address().zip(to).is_none_or(|(own, to)| own == to);
        let named = match from {
            Some(from) => self.by_peer.get(&from).into_iter().flatten().collect::<Vec<_>>(),
            None => self.by_peer.values().flatten().collect(),
        };
        let takes = |connection: &&&Connection| from.is_none_or(|from| connection.remote.value.takes(from) != Some(false));
        named.into_iter().chain(&self.open).filter(at).filter(takes).copied().collect()
    }
}

/// Why a first message leaves nowhere, or is heard by nobody.
pub(super) struct Unheard {
    cause: Cause,
    reason: String,
    told: [Option<Line>; 2],
    cures: Vec<Cure>,
}

/// Addresses as they are known of an end, or as the two ends' files agree on them.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct EndAddresses {
    pub own: Option<IpAddr>,
    pub reached: Option<IpAddr>,
}

/// What is known of where an end stands: what was said, else what its files say of itself and the peer's of it.
fn places(actor: &Actor<'_>, own: &Connection, peers: &Connection) -> EndAddresses {
    let (said, seen) = (own.local.value.address(), peers.remote.value.address());
    let reached = match (said, seen) {
        // A private address that the peer knows as a public one is translated on the way.
        (Some(said), Some(seen)) if is_private(said) && !is_private(seen) => Some(seen),
        (Some(said), _) => Some(said),
        (None, seen) => seen,
    };
    EndAddresses { own: actor.stands.own.or(said), reached: actor.stands.reached.or(reached) }
}

/// The UDP port of IKE behind NAT devices (RFC 7296 section 2.23).
const NAT_PORT: u16 = 4500;

impl<'a> Play<'a> {
    pub(super) fn places(&self, end: usize) -> EndAddresses {
        places(&self.actors[end], self.connections[end], self.connections[1 - end])
    }

    /// Whether an end stands behind a NAT device, or says so.
    pub(super) fn translated(&self, end: usize) -> bool {
        let EndAddresses { own, reached } = self.places(end);
        own.is_some() && reached.is_some() && own != reached
    }

    /// The connections that can answer the initiator.
    pub(super) fn hearing(&self) -> Vec<&'a Connection> {
        self.listeners.hearing(self.places(self.initiator).reached, self.places(self.responder()).own)
    }

    /// Why the first message leaves nowhere or is heard by nobody, if so: the step is the message that is lost.
    pub(super) fn unheard(&mut self) -> Option<Unheard> {
        let (initiator, responder) = (self.initiator, self.responder());
        let (here, there) = (self.places(initiator), self.places(responder));
        let initiating = self.initiating();
        if let (Endpoint::At(said), Some(own)) = (&initiating.local.value, self.actors[initiator].stands.own)
            && *said != own
        {
            let reason = format!("{} says that it is at {said}, which none of its interfaces has.", self.name(initiator));
            let cures = vec![self.cure(initiator, &initiating.local, format!("write {own}"))];
            return Some(Unheard { cause: Cause::at(Parameter::Address, initiator), reason, told: [None, None], cures });
        }
        match (initiating.remote.value.first(), there.reached) {
            (Endpoint::Anywhere | Endpoint::Within(_), _) => {
                let reason = format!("{} is not told where its peer is, so that it can only answer.", self.name(initiator));
                let address = there.reached.map_or("its address".to_owned(), |address| address.to_string());
                let cures = vec![self.cure(initiator, &initiating.remote, format!("write {address}"))];
                return Some(Unheard { cause: Cause::at(Parameter::Address, responder), reason, told: [None, None], cures });
            }
            (Endpoint::At(wanted), Some(reached)) if *wanted != reached => {
                let reason =
                    format!("{} sends to {wanted}, where {} is not: that is at {reached}.", self.name(initiator), self.name(responder));
                let cures = vec![self.cure(initiator, &initiating.remote, format!("write {reached}"))];
                return Some(Unheard {
                    cause: Cause::at(Parameter::Address, responder),
                    reason,
                    told: [Some(Line::Unanswered), None],
                    cures,
                });
            }
            _ => {}
        }
        let gateway = self.actors[responder].reading.gateway;
        let sent_to = initiating.ike().ports.value[1];
        let listens = |port: u16| gateway.connections.iter().any(|connection| connection.ike().ports.value[0] == port);
        if ![IKE_PORT, NAT_PORT].contains(&sent_to) && !listens(sent_to) {
            let reason = format!("{} sends to UDP {sent_to}, where {} does not listen.", self.name(initiator), self.name(responder));
            let cures = vec![self.cure(initiator, &initiating.ike().ports, format!("write {IKE_PORT}"))];
            let told = [Some(Line::Unanswered), None];
            return Some(Unheard { cause: Cause::at(Parameter::Address, responder), reason, told, cures });
        }
        let (from, to) = (here.reached?, there.own?);
        let place = gateway.admits(from.into(), to.into(), &Carrier::Ike.traffic()).stopped().map(Option::<&_>::cloned)?;
        let reason = format!("The filter of {} does not let UDP 500 in from {from}.", self.name(responder));
        let cures = vec![self.cure_at(responder, place.as_ref(), format!("let UDP 500 and 4500 in from {from}"))];
        Some(Unheard { cause: Cause::at(Parameter::Entrance, responder), reason, told: [Some(Line::Unanswered), None], cures })
    }

    /// Tells that nobody answers, if so.
    pub(super) fn silence(&mut self, unheard: Option<Unheard>) -> bool {
        match unheard {
            Some(Unheard { cause, reason, told, cures }) => {
                self.fail((Stage::Answer, vec![cause]), reason, told, cures);
                true
            }
            None => false,
        }
    }
}
