//! One packet's path through two gateways, and the way back of its answer: for each hop what decided, and where it stands.
//!
//! In the order of the Linux kernel: translation of destinations, routing, filter, translation of sources, then the
//! selectors, which see the packet as it was translated (RFC 4301 section 5.1); on arrival the selectors again (section
//! 5.2), and the same chain. The SAs are those that a rehearsal brings up.

mod filtering;
mod leg;

use std::net::IpAddr;

use ipnet::IpNet;

use crate::actor::Actor;
use crate::rehearse::{Rehearsal, Rehearsals, rehearse};
use uspan_model::gateway::{Gateway, Origin, ReadAt, Setting, Traffic};
use uspan_model::source::Place;

/// A gateway on the way.
#[derive(Clone, Copy, Debug)]
pub struct Walker<'a> {
    /// As it negotiates.
    pub actor: Actor<'a>,
    /// Its addresses inside, as far as they are known; its files do not tell them.
    pub inside: &'a [IpAddr],
    /// Whether it translates what leaves for the internet, beside what its files say; nothing where that is not known.
    pub shares_internet: Option<bool>,
    /// Its networks, as far as they are known beside its files.
    pub networks: &'a [KnownNetwork],
}

/// A network that is reached through a gateway.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct KnownNetwork {
    /// Its prefix.
    pub net: IpNet,
    /// Whether it stands beyond other tunnels of the gateway, or the internet, and not behind itself: its files do not tell which.
    pub beyond: bool,
}

/// What is sent.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Flow {
    /// Source, as the sending host has it.
    pub from: IpAddr,
    /// Destination, as the sending host writes it.
    pub to: IpAddr,
    /// What for.
    pub traffic: Traffic,
}

/// Where a hop is.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Spot {
    /// On a gateway.
    Gateway(usize),
    /// Between the two.
    Internet,
}

/// What is decided at a hop.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Aspect {
    /// Where the packet comes from.
    Source,
    /// Translation of its addresses.
    Translation,
    /// Where it is routed.
    Route,
    /// The packet filter.
    Filter,
    /// The selectors.
    Selector,
    /// The SA.
    Sa,
    /// The way between the gateways.
    Path,
    /// The end of the way.
    Arrival,
}

impl Aspect {
    /// In a word.
    pub fn word(self) -> &'static str {
        match self {
            Aspect::Source => "source",
            Aspect::Translation => "translation",
            Aspect::Route => "route",
            Aspect::Filter => "filter",
            Aspect::Selector => "selector",
            Aspect::Sa => "SA",
            Aspect::Path => "path",
            Aspect::Arrival => "arrives",
        }
    }
}

/// One decision.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Hop {
    /// Where.
    pub spot: Spot,
    /// On what.
    pub aspect: Aspect,
    /// What is decided, in words.
    pub says: String,
    /// What decided, and as the file has it.
    pub decided: Option<(Place, Option<String>)>,
    /// Rules of which nobody knows whether they match, and that would decide otherwise.
    pub unsure: Vec<(Place, Option<String>)>,
    /// It goes on only if one of those lets it.
    pub open: bool,
    /// Whether the packet goes on.
    pub passes: bool,
    /// What to do where it does not.
    pub remedy: Option<String>,
}

/// A way there or back.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct Leg {
    /// The hops, in order.
    pub hops: Vec<Hop>,
    /// Whether the gateway at its end passes the packet on into another tunnel.
    pub onward: bool,
}

impl Leg {
    /// Whether the packet arrives.
    pub fn arrives(&self) -> bool {
        !self.hops.is_empty() && self.hops.iter().all(|hop| hop.passes)
    }
}

/// A walk.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Walk {
    /// The end that the packet starts at.
    pub near: usize,
    /// The length of the prefix behind that end in which the source lies: of several gateways the longest one means its own.
    pub behind: u8,
    /// The way there.
    pub there: Leg,
    /// The way back of its answer, where it arrives.
    pub back: Option<Leg>,
}

impl Walk {
    /// Whether that can be told from the files, and does not hang on a rule of which nobody knows whether it matches.
    pub fn is_sure(&self) -> bool {
        let legs = std::iter::once(&self.there).chain(&self.back);
        legs.flat_map(|leg| &leg.hops).all(|hop| !hop.open)
    }

    /// Whether the packet arrives and its answer comes back.
    pub fn works(&self) -> bool {
        self.there.arrives() && self.back.as_ref().is_some_and(Leg::arrives)
    }
}

/// Follows a packet. Nothing where neither gateway is, or has behind it, what sends it.
pub fn walk(walkers: [Walker<'_>; 2], flow: &Flow) -> Option<Walk> {
    let rehearsals = rehearse(walkers.each_ref().map(|walker| walker.actor), None);
    let near = starts_at(&walkers, flow)?;
    let way = Way { walkers, rehearsals: &rehearsals, near, opened: flow };
    let (there, crossed) = way.there(near, flow);
    let back = crossed.filter(|_| there.arrives()).map(|crossed| way.back(near, &crossed));
    Some(Walk { near, behind: behind(&walkers[near], flow.from), there, back })
}

/// The gateway that the source is, or is behind.
fn starts_at(walkers: &[Walker<'_>; 2], flow: &Flow) -> Option<usize> {
    let own = |end: usize| {
        let gateway = walkers[end].actor.reading.gateway;
        is_own(&walkers[end], flow.from) || local_nets(gateway).any(|net| net.contains(&flow.from))
    };
    // Where both could be meant, the one whose peer has the destination.
    let fits = |end: usize| {
        own(end)
            && (is_own(&walkers[1 - end], flow.to) || local_nets(walkers[1 - end].actor.reading.gateway).any(|net| net.contains(&flow.to)))
    };
    [0, 1].into_iter().find(|end| fits(*end)).or_else(|| [0, 1].into_iter().find(|end| own(*end)))
}

/// The networks behind a gateway, as far as its tunnels tell them: as they are, and as they appear.
fn local_nets(gateway: &Gateway) -> impl Iterator<Item = ipnet::IpNet> {
    let crossing = gateway.crossing();
    let inner: Vec<_> = crossing.iter().map(|(apparent, remote)| gateway.inner(*apparent, *remote)).collect();
    crossing.into_iter().map(|(apparent, _)| apparent).chain(inner)
}

/// The longest prefix behind a gateway, as far as its tunnels tell or somebody knows, in which an address lies.
fn behind(walker: &Walker<'_>, address: IpAddr) -> u8 {
    let known = walker.networks.iter().filter(|known| !known.beyond).map(|known| known.net);
    let held = local_nets(walker.actor.reading.gateway).chain(known).filter(|net| net.contains(&address)).map(|net| net.prefix_len());
    if is_own(walker, address) { u8::MAX } else { held.max().unwrap_or(0) }
}

/// Whether an address is the gateway's own, outside or on a tunnel interface.
fn is_own(walker: &Walker<'_>, address: IpAddr) -> bool {
    let stands = walker.actor.stands;
    let gateway = walker.actor.reading.gateway;
    let said = gateway.connections.iter().filter_map(|connection| connection.local.value.address());
    let inner = gateway.interfaces.iter().flat_map(|interface| &interface.addresses).map(ipnet::IpNet::addr);
    let configured = gateway.addresses.iter().map(|own| own.address.addr());
    let inside = walker.inside.iter().copied().chain(configured);
    [stands.own, stands.reached].into_iter().flatten().chain(said).chain(inner).chain(inside).any(|own| own == address)
}

/// Two gateways, and the SAs between them.
struct Way<'a> {
    walkers: [Walker<'a>; 2],
    rehearsals: &'a Rehearsals,
    /// The end from which the connection is opened.
    near: usize,
    /// What it is opened for.
    opened: &'a Flow,
}

impl<'a> Way<'a> {
    fn name(&self, end: usize) -> &'a str {
        self.walkers[end].actor.reading.name
    }

    fn gateway(&self, end: usize) -> &'a Gateway {
        self.walkers[end].actor.reading.gateway
    }

    /// The first negotiation that fails, for where there is no SA.
    fn failing(&self) -> Option<&'a Rehearsal> {
        self.rehearsals.all.iter().find(|rehearsal| !rehearsal.failures.is_empty())
    }

    fn decided(&self, end: usize, place: Option<&Place>) -> Option<(Place, Option<String>)> {
        place.map(|place| (place.clone(), self.walkers[end].actor.reading.spelling(place)))
    }

    fn by_setting<T>(&self, end: usize, setting: &Setting<T>) -> Option<(Place, Option<String>)> {
        match &setting.origin {
            Origin::Stated(place) | Origin::Unknown(place) => self.decided(end, Some(place)),
            Origin::Planned | Origin::Default => None,
        }
    }

    fn by_rule(&self, end: usize, place: &ReadAt) -> Option<(Place, Option<String>)> {
        self.decided(end, place.0.as_ref())
    }
}
