//! The way in one direction.

use std::net::IpAddr;

use ipnet::IpNet;

use super::{Aspect, Flow, Hop, KnownNetwork, Leg, Spot, Way, behind, is_own, local_nets};
use crate::rehearse::OpenedChild;
use uspan_model::gateway::{
    Action, Carrier, ChainRule, Child, Connection, Encapsulation, GRE, Hook, KnownAddresses, NatRule, NatTarget, PacketAt, PassedInterface,
    Protection, Route, Through, Traffic, Translation, What, listed,
};

/// Source and destination.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub(super) struct LegEnds {
    pub(super) from: IpAddr,
    pub(super) to: IpAddr,
}

impl LegEnds {
    fn turned(self) -> LegEnds {
        LegEnds { from: self.to, to: self.from }
    }

    fn within(&self, pair: &(IpNet, IpNet)) -> bool {
        pair.0.contains(&self.from) && pair.1.contains(&self.to)
    }
}

/// The addresses that a packet has on its way: at the gateway that sends it, in the tunnel, and at the one that it reaches.
#[derive(Clone, Copy, Debug)]
pub(super) struct Crossed {
    sent: LegEnds,
    inside: LegEnds,
    received: LegEnds,
}

/// The address at the place of another one in a network of the same size.
fn moved(address: IpAddr, from: IpNet, to: IpNet) -> IpAddr {
    match (address, from, to) {
        (IpAddr::V4(at), IpNet::V4(from), IpNet::V4(to)) => {
            IpAddr::V4((u32::from(to.network()) | (u32::from(at) & !u32::from(from.netmask()))).into())
        }
        (IpAddr::V6(at), IpNet::V6(from), IpNet::V6(to)) => {
            IpAddr::V6((u128::from(to.network()) | (u128::from(at) & !u128::from(from.netmask()))).into())
        }
        (address, ..) => address,
    }
}

/// How a packet leaves a gateway.
pub(super) enum Steered<'a> {
    /// Out of the gateway, through this interface if a route says so; the selectors may take it.
    Outside(Option<&'a str>),
    /// Into a tunnel interface.
    Into(&'a str),
}

impl<'a> Way<'a> {
    /// The way there; where it arrives, with the addresses that the packet had.
    pub(super) fn there(&self, near: usize, flow: &Flow) -> (Leg, Option<Crossed>) {
        let mut leg = Leg::default();
        let sent = LegEnds { from: flow.from, to: flow.to };
        let crossed = self.sends(&mut leg, near, sent, flow, None);
        let crossed = crossed.and_then(|inside| {
            let received = self.receives(&mut leg, 1 - near, inside, flow, None)?;
            Some(Crossed { sent, inside, received })
        });
        (leg, crossed)
    }

    /// The way back of the answer: translations are undone by themselves.
    pub(super) fn back(&self, near: usize, crossed: &Crossed) -> Leg {
        let mut leg = Leg::default();
        let answer = Crossed { sent: crossed.received.turned(), inside: crossed.inside.turned(), received: crossed.sent.turned() };
        let flow = Flow { from: answer.sent.from, to: answer.sent.to, traffic: Traffic::Replies };
        if let Some(inside) = self.sends(&mut leg, 1 - near, answer.sent, &flow, Some(&answer)) {
            self.receives(&mut leg, near, inside, &flow, Some(&answer));
        }
        leg
    }

    pub(super) fn hop(&self, leg: &mut Leg, end: usize, aspect: Aspect, says: impl Into<String>) {
        let hop = Hop {
            spot: Spot::Gateway(end),
            aspect,
            says: says.into(),
            decided: None,
            unsure: Vec::new(),
            open: false,
            passes: true,
            remedy: None,
        };
        leg.hops.push(hop);
    }

    pub(super) fn stop(&self, leg: &mut Leg, end: usize, aspect: Aspect, says: impl Into<String>, remedy: impl Into<String>) {
        self.hop(leg, end, aspect, says);
        if let Some(hop) = leg.hops.last_mut() {
            hop.passes = false;
            hop.remedy = Some(remedy.into());
        }
    }

    /// Through the gateway that sends it into the tunnel; the addresses that it then has.
    fn sends(&self, leg: &mut Leg, end: usize, sent: LegEnds, flow: &Flow, answer: Option<&Crossed>) -> Option<LegEnds> {
        let gateway = self.gateway(end);
        let own = is_own(&self.walkers[end], sent.from);
        let hook = if own { Hook::Output } else { Hook::Forward };
        let behind = || gateway.crossing().into_iter().map(|(net, remote)| gateway.inner(net, remote)).find(|net| net.contains(&sent.from));
        match behind() {
            _ if own => self.hop(leg, end, Aspect::Source, format!("{} itself sends it, from {}", self.name(end), sent.from)),
            Some(net) => self.hop(leg, end, Aspect::Source, format!("comes from a host in {net}")),
            None => self.hop(leg, end, Aspect::Source, format!("comes from {}", sent.from)),
        }
        let mut at = sent;
        if answer.is_none() && !own {
            at.to = self.destination(leg, end, at);
        }
        let steered = self.route(leg, end, at)?;
        let protection = self.protection(end, at, &steered, flow);
        self.filtered(leg, end, hook, at, protection, &flow.traffic)?;
        let before = at;
        match answer {
            Some(answer) => at = answer.inside,
            None => at.from = self.source(leg, end, at, &steered, flow),
        }
        if gateway.filter.iter().flat_map(|filter| &filter.rules).any(|rule| rule.hook == Hook::Departure) {
            let protection = self.protection(end, at, &steered, flow);
            self.filtered(leg, end, Hook::Departure, at, protection, &flow.traffic)?;
        }
        self.protected(leg, end, (before, at), &steered, flow)?;
        Some(at)
    }

    /// Through the gateway that it comes out of the tunnel at.
    fn receives(&self, leg: &mut Leg, end: usize, inside: LegEnds, flow: &Flow, answer: Option<&Crossed>) -> Option<LegEnds> {
        self.outer(leg, end)?;
        let gateway = self.gateway(end);
        let come = |(_, child): &(&Connection, &Child)| self.sa(end, inside.turned(), child).is_some();
        let Some((connection, child)) = self.covering(end, inside.turned(), flow).find(come) else {
            let text =
                format!("no SA of {} is for {} to {}: what comes out of another one is dropped", self.name(end), inside.from, inside.to);
            self.stop(leg, end, Aspect::Selector, text, "Make the selectors of the two ends mirror each other.");
            return None;
        };
        self.hop(leg, end, Aspect::Selector, format!("is for {} to {}: {}", inside.from, inside.to, child.name));
        self.last_decided(leg, self.by_setting(end, &child.remote));
        let mut at = inside;
        match answer {
            Some(answer) => at = answer.received,
            None => at.to = self.destination(leg, end, at),
        }
        let own = is_own(&self.walkers[end], at.to);
        let protection = match self.interface(end, connection) {
            Some(name) => Protection::OutOf(name.to_owned()),
            None => Protection::Arrived,
        };
        let hook = if own { Hook::Input } else { Hook::Forward };
        self.filtered(leg, end, hook, at, protection, &flow.traffic)?;
        if answer.is_none() && !own {
            let rules = gateway.nat.iter().filter(|rule| !rule.before_routing());
            if let Some(rule) = first(rules, at).filter(|rule| rule.target != NatTarget::KeepSource) {
                at.from = translated(rule, at.from);
                self.hop(leg, end, Aspect::Translation, format!("its source becomes {}", at.from));
                self.last_decided(leg, self.by_rule(end, &rule.place));
            }
        }
        // What lies beyond a hub stands behind another gateway, into whose tunnel it is routed.
        let held = behind(&self.walkers[end], at.to);
        let everybodys = gateway.routes.iter().filter(|route| route.from.is_none());
        let routes = everybodys.filter(|route| route.to.contains(&at.to) && route.to.prefix_len() > held);
        let best = routes.min_by_key(|route| (u8::MAX - route.to.prefix_len(), route.metric));
        let onward = best.filter(|route| match &route.through {
            Through::Interface(name) => gateway.interfaces.iter().any(|interface| interface.name == *name),
            Through::BlackHole => false,
        });
        if let (Some(route), false) = (onward, own) {
            self.hop(leg, end, Aspect::Route, format!("{} {}: it is passed on", route.to, route.through));
            self.last_decided(leg, self.by_rule(end, &route.place));
            leg.onward = true;
            return Some(at);
        }
        if held == 0 && !own && local_nets(gateway).any(|net| net.contains(&at.to)) {
            let says = format!("nothing of {} is nearer to {}: it leaves for the internet", self.name(end), at.to);
            self.hop(leg, end, Aspect::Route, says);
            if answer.is_none() {
                // The answer's destination is turned back by itself.
                self.source(leg, end, at, &Steered::Outside(None), flow);
            }
            self.hop(leg, end, Aspect::Arrival, format!("at the host {} on the internet", at.to));
            return Some(at);
        }
        let beyond =
            self.walkers[end].networks.iter().find(|known| known.beyond && known.net.contains(&at.to) && known.net.prefix_len() == held);
        if let Some(KnownNetwork { net, .. }) = beyond {
            let says = format!("{net} stands beyond {}, and none of its tunnels leads to {}", self.name(end), at.to);
            self.stop(leg, end, Aspect::Route, says, "Send it to a host in the network of a member.");
            return None;
        }
        let whom = if own { format!("at {} itself", self.name(end)) } else { format!("at the host {}", at.to) };
        self.hop(leg, end, Aspect::Arrival, whom);
        Some(at)
    }

    pub(super) fn last_decided(&self, leg: &mut Leg, decided: Option<(uspan_model::source::Place, Option<String>)>) {
        if let Some(hop) = leg.hops.last_mut() {
            hop.decided = decided;
        }
    }

    /// Translation of the destination, before routing.
    fn destination(&self, leg: &mut Leg, end: usize, at: LegEnds) -> IpAddr {
        let rules = self.gateway(end).nat.iter().filter(|rule| rule.before_routing());
        let Some(rule) = first(rules, at) else { return at.to };
        let NatTarget::DestinationNet(net) = rule.target else { return at.to };
        let to = moved(at.to, rule.to, net);
        self.hop(leg, end, Aspect::Translation, format!("its destination {} becomes {to}", at.to));
        self.last_decided(leg, self.by_rule(end, &rule.place));
        to
    }

    /// Translation of the source, after routing: the rules in order, then what the administrator does with all that leaves
    /// for the internet.
    fn source(&self, leg: &mut Leg, end: usize, at: LegEnds, steered: &Steered<'_>, flow: &Flow) -> IpAddr {
        let gateway = self.gateway(end);
        let own = match steered {
            Steered::Outside(_) => {
                let said = gateway.connections.first().and_then(|connection| connection.local.value.address());
                self.walkers[end].actor.stands.own.or(said)
            }
            Steered::Into(name) => {
                gateway.interfaces.iter().find(|one| one.name == *name).and_then(|one| Some(one.addresses.first()?.addr()))
            }
        };
        let protection = self.protection(end, at, steered, flow);
        let met = self.met(end, Hook::Departure, at, &protection, &flow.traffic, Some(steered));
        let translation = gateway.translation(&met);
        let decided = match translation {
            Some(Translation::Own(rule)) => Some((translated(rule, at.from), &rule.place)),
            Some(Translation::Other(rule)) => match (&rule.action, own) {
                // What has that address already keeps it.
                (Action::Masquerade, Some(own)) if own == at.from => return own,
                (Action::Masquerade, Some(own)) => Some((own, &rule.place)),
                (Action::Masquerade, None) => None,
                (Action::Translate(NatTarget::SourceTo(address)), _) => Some((*address, &rule.place)),
                (Action::Translate(NatTarget::SourceNet(net)), _) => {
                    Some((moved(at.from, first_source(rule).unwrap_or(*net), *net), &rule.place))
                }
                _ => Some((at.from, &rule.place)),
            },
            None => None,
        };
        if let Some((from, place)) = decided {
            let says = match translation {
                _ if from == at.from => "keeps its source".to_owned(),
                Some(Translation::Other(_)) => format!("no exemption is for it: its source becomes {from}"),
                _ => format!("its source becomes {from}"),
            };
            self.hop(leg, end, Aspect::Translation, says);
            self.last_decided(leg, self.by_rule(end, place));
            return from;
        }
        match (steered, self.walkers[end].shares_internet, own) {
            // What goes into a tunnel interface does not leave for the internet.
            (Steered::Outside(_), _, Some(own)) if own == at.from => own,
            (Steered::Outside(_), Some(true), Some(own)) => {
                self.hop(leg, end, Aspect::Translation, format!("no exemption is for it: its source becomes {own}, as of all that leaves"));
                own
            }
            (Steered::Outside(_), None, _) if gateway.ruleset.chains.is_empty() => {
                self.hop(leg, end, Aspect::Translation, "no rule here; one of the administrator's that translates would change its source");
                at.from
            }
            _ => at.from,
        }
    }

    /// A packet where the administrator's chains meet it.
    pub(super) fn met<'m>(
        &self,
        end: usize,
        hook: Hook,
        at: LegEnds,
        protection: &'m Protection,
        traffic: &'m Traffic,
        steered: Option<&Steered<'m>>,
    ) -> PacketAt<'m>
    where
        'a: 'm,
    {
        let gateway = self.gateway(end);
        let towards = |host: IpAddr| if is_own(&self.walkers[end], host) { PassedInterface::None } else { gateway.towards(host) };
        let outside = match steered {
            Some(Steered::Outside(Some(name))) => PassedInterface::Named(name),
            _ => gateway.outside(),
        };
        let (into, out_of) = match protection {
            Protection::Into(name) => (PassedInterface::Named(name.as_str()), towards(at.from)),
            Protection::OutOf(name) => (towards(at.to), PassedInterface::Named(name.as_str())),
            Protection::Arrived => (towards(at.to), outside),
            // What comes in from the internet, or what leaves for it.
            Protection::Any if hook == Hook::Input => (PassedInterface::None, outside),
            Protection::Leaving | Protection::Any => (outside, towards(at.from)),
        };
        let (leaving, arrived) = (*protection == Protection::Leaving, *protection == Protection::Arrived);
        PacketAt { hook, from: at.from.into(), to: at.to.into(), traffic, into, out_of, leaving, arrived }
    }

    /// Where it is routed; nothing where that is its end.
    fn route(&self, leg: &mut Leg, end: usize, at: LegEnds) -> Option<Steered<'a>> {
        let gateway = self.gateway(end);
        // Those that were listed are all there are; without a listing there is a default route, as a rule.
        let listed = gateway.table.of(at.to.is_ipv4());
        let fitting = listed.unwrap_or(&gateway.routes).iter().filter(|route| route.from.is_none() && route.to.contains(&at.to));
        let of_network = |route: &&Route| route.from.is_some_and(|net| net.contains(&at.from)) && route.to.contains(&at.to);
        // Those of a network come before everybody's default route, and behind all others.
        let route = fitting
            .chain(gateway.routes.iter().filter(of_network))
            .min_by_key(|route| (u8::MAX - route.to.prefix_len(), route.from.is_none(), route.metric));
        let learned = gateway
            .sessions
            .iter()
            .flat_map(|session| &session.accepts)
            .filter(|net| net.contains(&at.to))
            .max_by_key(|net| net.prefix_len());
        // A route that a peer tells is preferred to the last resort.
        if let Some(net) = learned
            && route.is_none_or(|route| route.through == Through::BlackHole || route.to.prefix_len() < net.prefix_len())
        {
            let name = gateway.interfaces.first().map(|interface| interface.name.as_str())?;
            self.hop(leg, end, Aspect::Route, format!("{net} by what the peer tells, into {name}"));
            return Some(Steered::Into(name));
        }
        let steered = match route.map(|route| (route, &route.through)) {
            Some((route, Through::Interface(name))) if gateway.interfaces.iter().any(|interface| interface.name == *name) => {
                self.hop(leg, end, Aspect::Route, format!("{} {}", route.to, route.through));
                Some(Steered::Into(name))
            }
            Some((route, Through::Interface(name))) => {
                // Of several ways none is named.
                let name = Some(name.as_str()).filter(|name| !name.is_empty());
                let through = name.map_or_else(|| "several ways".to_owned(), |_| route.through.to_string());
                self.hop(leg, end, Aspect::Route, format!("{} {through}; the selectors decide what enters the tunnel", route.to));
                Some(Steered::Outside(name))
            }
            Some((route, Through::BlackHole)) => {
                let says = format!("{} {}", route.to, route.through);
                self.stop(leg, end, Aspect::Route, says, "Route the network into the tunnel's interface, with a lower metric.");
                None
            }
            None if listed.is_some() => {
                let says = format!("no route leads to {}, not even a default one", at.to);
                self.stop(leg, end, Aspect::Route, says, "Set a default route: the selectors see only what is routed.");
                None
            }
            None => {
                self.hop(leg, end, Aspect::Route, "the default route; the selectors decide what enters the tunnel");
                Some(Steered::Outside(None))
            }
        };
        if let Some(route) = route {
            self.last_decided(leg, self.by_rule(end, &route.place));
        }
        steered
    }

    /// The tunnel interface of a connection.
    fn interface(&self, end: usize, connection: &Connection) -> Option<&'a str> {
        self.gateway(end).interfaces.iter().find(|interface| connection.uses(&interface.kind)).map(|interface| interface.name.as_str())
    }

    /// The connections of an end with their Child SAs, and what is in each.
    fn children(&self, end: usize) -> impl Iterator<Item = (&'a Connection, &'a Child)> {
        self.gateway(end).connections.iter().flat_map(|connection| connection.children.iter().map(move |child| (connection, child)))
    }

    /// What is covered by a Child SA as it is configured.
    fn covers(&self, end: usize, connection: &Connection, child: &Child, at: LegEnds, flow: &Flow) -> bool {
        let wraps = child.protocol.value == Some(GRE) && self.interface(end, connection).is_some();
        // An answer is of what was asked for.
        let asked = if flow.traffic == Traffic::Replies { &self.opened.traffic } else { &flow.traffic };
        let number = asked.protocol(at.from.is_ipv4());
        let of_protocol = child.protocol.value.is_none_or(|protocol| number.is_none_or(|number| protocol == number));
        // The port that is asked for is the far end's; which one the near end takes nobody knows.
        let [own, far] = child.ports.value;
        let [asking, answering] = if end == self.near { [own, far] } else { [far, own] };
        let of_ports = match (asking, answering, asked) {
            (None, None, _) => true,
            (None, Some(port), Traffic::To(_, to)) => to.first == port && to.last == port,
            _ => false,
        };
        let (own, far) = (child.local.value.iter(), child.remote.value.iter());
        // What is put into GRE first is not what the selectors see.
        wraps || (of_protocol && of_ports && own.clone().any(|net| net.contains(&at.from)) && far.clone().any(|net| net.contains(&at.to)))
    }

    /// The Child SAs that cover a packet, whether they are up or not.
    pub(super) fn covering(&self, end: usize, at: LegEnds, flow: &Flow) -> impl Iterator<Item = (&'a Connection, &'a Child)> {
        self.children(end).filter(move |(connection, child)| self.covers(end, connection, child, at, flow))
    }

    /// The one that a packet is for: where routes steer, that of the interface.
    fn child(&self, end: usize, at: LegEnds, steered: &Steered<'_>, flow: &Flow) -> Option<(&'a Connection, &'a Child)> {
        let into = match steered {
            Steered::Into(name) => Some(*name),
            Steered::Outside(_) => None,
        };
        let meant = self.covering(end, at, flow).find(|(connection, _)| self.interface(end, connection) == into);
        meant.or_else(|| self.covering(end, at, flow).next())
    }

    /// The SA of this child that takes a packet; seen from the end that it leaves.
    fn sa(&self, end: usize, at: LegEnds, child: &Child) -> Option<&'a OpenedChild> {
        let mut opened = self.rehearsals.all.iter().flat_map(|rehearsal| &rehearsal.opened);
        let wraps = child.protocol.value == Some(GRE);
        opened.find(|opened| opened.names[end] == child.name && (wraps || opened.selectors[end].iter().any(|pair| at.within(pair))))
    }

    /// Into the SA; nothing where there is none.
    fn protected(&self, leg: &mut Leg, end: usize, (before, at): (LegEnds, LegEnds), steered: &Steered<'_>, flow: &Flow) -> Option<()> {
        let Some((connection, child)) = self.child(end, at, steered, flow) else {
            let text = format!("no selector covers {} to {}: it leaves in clear, and the internet has no way for it", at.from, at.to);
            let remedy = if before.from != at.from && self.child(end, before, steered, flow).is_some() {
                "Translation comes before the selectors: exempt this traffic from it.".to_owned()
            } else if is_own(&self.walkers[end], at.from) {
                format!("Send it from an address inside the selectors: {} is outside of them.", at.from)
            } else {
                "Add the pair of networks at both ends, or send it from an address inside them.".to_owned()
            };
            self.stop(leg, end, Aspect::Selector, text, remedy);
            return None;
        };
        if let Steered::Into(name) = steered
            && self.interface(end, connection) != Some(name)
        {
            let text = format!("{name} belongs to no connection whose selectors cover {} to {}", at.from, at.to);
            self.stop(leg, end, Aspect::Selector, text, "Give the interface and the connection the same number.");
            return None;
        }
        self.hop(leg, end, Aspect::Selector, format!("{}: {} to {}", child.name, listed(&child.local.value), listed(&child.remote.value)));
        self.last_decided(leg, self.by_setting(end, &child.local));
        match self.sa(end, at, child) {
            Some(opened) => {
                self.hop(leg, end, Aspect::Sa, opened.protection.clone());
                Some(())
            }
            None => {
                let why = self.failing().and_then(|rehearsal| rehearsal.failures.first());
                let why = why.map_or_else(|| "what was agreed on does not cover it".to_owned(), |failure| failure.reason.clone());
                let text = format!("there is no SA: {why}");
                self.stop(leg, end, Aspect::Sa, text, "Rehearse the negotiation, and mend what it shows.");
                None
            }
        }
    }

    /// Over the internet to the other gateway.
    fn outer(&self, leg: &mut Leg, end: usize) -> Option<()> {
        let rehearsed = |end: usize| self.walkers[end].actor.stands;
        let (here, there) = (rehearsed(1 - end), rehearsed(end));
        let connection = self.gateway(end).connections.first()?;
        let from = here.reached.or(connection.remote.value.address());
        let to = there.own.or(connection.local.value.address());
        let behind = |stands: KnownAddresses| stands.own.is_some() && stands.own != stands.reached;
        let forced = self.children(end).chain(self.children(1 - end)).any(|(c, _)| c.encapsulation.value == Encapsulation::Forced);
        let in_udp = behind(here) || behind(there) || forced;
        let carrier = Carrier::of_packets(in_udp);
        let packets = if in_udp { format!("ESP in {carrier}") } else { carrier.to_string() };
        let words = |address: Option<IpAddr>, name: &str| address.map_or_else(|| name.to_owned(), |address| address.to_string());
        let says = format!("{packets} from {} to {}", words(from, self.name(1 - end)), words(there.reached.or(to), self.name(end)));
        leg.hops.push(Hop {
            spot: Spot::Internet,
            aspect: Aspect::Path,
            says,
            decided: None,
            unsure: Vec::new(),
            open: false,
            passes: true,
            remedy: None,
        });
        let (Some(from), Some(to)) = (from, to) else { return Some(()) };
        let at = LegEnds { from, to };
        let judged = self.gateway(end).admits(from.into(), to.into(), &carrier.traffic());
        match judged.own {
            Some((_, Some(rule))) => self.by_filter(leg, end, rule, &packets)?,
            Some((filter, None)) if filter.is_joined() => {
                let says = format!("no rule lets {carrier} in from {from}; what the rules join drops it, as a rule");
                self.stop(leg, end, Aspect::Filter, says, format!("Let {carrier} in from {from}."));
                return None;
            }
            _ => {}
        }
        match &judged.others {
            Some(ruling) => self.by_others(leg, end, Hook::Input, at, &packets, ruling),
            None => Some(()),
        }
    }
}

/// The first rule for these addresses.
fn first<'r>(mut rules: impl Iterator<Item = &'r NatRule>, at: LegEnds) -> Option<&'r NatRule> {
    rules.find(|rule| rule.concerns(&at.from.into(), &at.to.into()))
}

/// The network that a rule of the administrator's asks of sources.
fn first_source(rule: &ChainRule) -> Option<IpNet> {
    rule.tests.iter().find_map(|test| match &test.what {
        What::Source(nets) if !test.not => nets.first().copied(),
        _ => None,
    })
}

/// What a rule makes of a source.
fn translated(rule: &NatRule, from: IpAddr) -> IpAddr {
    match rule.target {
        NatTarget::KeepSource | NatTarget::DestinationNet(_) => from,
        NatTarget::SourceTo(address) => address,
        NatTarget::SourceNet(net) => moved(from, rule.from, net),
    }
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn an_address_keeps_its_place_in_the_other_network() {
        let at = |address: &str, from: &str, to: &str| {
            moved(address.parse().expect("an address"), from.parse().expect("a net"), to.parse().expect("a net")).to_string()
        };
        assert_eq!(at("10.1.2.3", "10.1.0.0/22", "10.200.0.0/22"), "10.200.2.3");
        assert_eq!(at("fd00::7", "fd00::/64", "2001:db8::/64"), "2001:db8::7");
    }
}
