//! One end held against the other: what must be equal, what must be crossed, what must be covered.
//!
//! It works on gateways as they were read from files, never on the plan behind them.

use std::collections::BTreeSet;

use ipnet::IpNet;

use uspan_model::finding::{self as rules, Finding, Rule};
use uspan_model::gateway::{
    BgpSession, Carrier, Connection, Endpoint, Filter, FilterForm, Gateway, Hook, InterfaceKind, Method, NatTarget, Packet, Protection,
    Through, Traffic, TunnelInterface, Verdict,
};
use uspan_model::key::PublicKey;

/// What is known about an end beside its configuration.
#[derive(Clone, Debug)]
pub struct End<'a> {
    /// The site's name, for messages.
    pub name: &'a str,
    /// The gateway as read.
    pub gateway: &'a Gateway,
    /// How it sees its own outer end.
    pub own: Endpoint,
    /// How its peers reach it.
    pub reached: Endpoint,
    /// Whether it translates what leaves for the internet.
    pub shares_internet: bool,
    /// Whether we run it: what stands around the daemon of others nobody here knows.
    pub is_ours: bool,
}

/// Holds two ends of one tunnel against each other. Nothing is found in a pair that fits.
// Long: a check for each part.
pub fn cross_check(left: End<'_>, right: End<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    let (Some(one), Some(other)) = (left.gateway.connections.first(), right.gateway.connections.first()) else {
        let lacking = if left.gateway.connections.is_empty() { left.name } else { right.name };
        return vec![Finding::new(&rules::METHODS_DIFFER, format!("{lacking} has no connection"))];
    };
    let mut say = |rule: &'static Rule, differs: bool, message: &dyn Fn() -> String| {
        if differs {
            findings.push(Finding::new(rule, message()));
        }
    };
    let names = format!("{} and {}", left.name, right.name);
    let methods = |c: &Connection| (c.ike().exchange.value, c.ike().local_method.value, c.ike().remote_method.value);
    let (exchange, local, remote) = methods(one);
    say(&rules::METHODS_DIFFER, (exchange, remote, local) != methods(other) || modes(one) != modes(other), &|| {
        format!("{names} differ in version, method or mode")
    });
    say(
        &rules::ADDRESSES_NOT_CROSSED,
        [&one.local.value, &one.remote.value, &other.local.value, &other.remote.value]
            != [&left.own, &right.reached, &right.own, &left.reached],
        &|| format!("the addresses of {names} are not crossed"),
    );
    say(
        &rules::IDENTITIES_NOT_CROSSED,
        one.ike().local_identity != other.ike().remote_identity || one.ike().remote_identity != other.ike().local_identity,
        &|| format!("the identities of {names} are not crossed"),
    );
    say(&rules::IKE_PROPOSALS_DIFFER, one.ike().proposals != other.ike().proposals || one.ike().proposals.value.is_empty(), &|| {
        format!("the IKE proposals of {names} differ")
    });
    let secrets = (left.gateway.secret_for(one), right.gateway.secret_for(other));
    match one.ike().local_method.value {
        Method::SharedSecret => {
            say(&rules::SECRETS_DIFFER, secrets.0.is_none() || secrets.0 != secrets.1, &|| format!("the secrets of {names} differ"));
        }
        Method::PublicKey => {
            let crossed = |signs: Option<&PublicKey>, expects: Option<&PublicKey>| signs.is_some() && signs == expects;
            let fit = crossed(left.gateway.own_key(one), right.gateway.pinned_key(other))
                && crossed(right.gateway.own_key(other), left.gateway.pinned_key(one));
            say(&rules::KEYS_NOT_CROSSED, !fit, &|| format!("the keys of {names} are not crossed"));
        }
        Method::Certificate => {
            let fit = believed(left.gateway, one, right.gateway) && believed(right.gateway, other, left.gateway);
            say(&rules::KEYS_NOT_CROSSED, !fit, &|| format!("of {names} one does not believe the certificate of the other"));
        }
    }
    say(&rules::SELECTORS_NOT_MIRRORED, selectors(one, false) != selectors(other, true), &|| {
        format!("the selectors of {names} do not mirror each other")
    });
    let both_ours = left.is_ours && right.is_ours;
    for end in [&left, &right].into_iter().filter(|end| end.is_ours) {
        let message = || format!("{}: the ends of GRE are not those that the selectors name", end.name);
        say(&rules::SELECTORS_NOT_MIRRORED, !wrapped(end.gateway), &message);
    }
    let fit = |(one, other): (&BgpSession, &BgpSession)| {
        let named_alike = one.router_id.is_some() && one.router_id == other.router_id;
        !named_alike && BgpSession { router_id: other.router_id, ..one.clone() } == turned_round(other)
    };
    let (sessions, theirs) = (&left.gateway.sessions, &right.gateway.sessions);
    let crossed = sessions.len() == theirs.len() && sessions.iter().zip(theirs).all(fit);
    say(&rules::SESSIONS_NOT_CROSSED, both_ours && !crossed, &|| format!("the routing sessions of {names} do not fit"));
    let turned: BTreeSet<_> = right.gateway.crossing().into_iter().map(|(local, remote)| (remote, local)).collect();
    say(&rules::ROUTES_INCOMPLETE, both_ours && left.gateway.crossing() != turned, &|| {
        format!("what crosses at {} is not what crosses at {}", left.name, right.name)
    });
    say(&rules::ESP_PROPOSALS_DIFFER, !esp_alike(one, other), &|| format!("the ESP proposals of {names} differ"));
    let waits = |c: &Connection| c.children.iter().all(|child| !child.opening.value.opens());
    say(&rules::NOBODY_STARTS, waits(one) && waits(other), &|| format!("neither of {names} opens the tunnel by itself"));
    for end in [&left, &right].into_iter().filter(|end| end.is_ours) {
        findings.extend(exemption(end));
        findings.extend(routing(end));
        findings.extend(passage(end));
    }
    // Where an end lets a pair through at all, the other one lets the same through.
    if both_ours && !findings.iter().any(|finding| finding.rule.code == rules::FILTER_INCOMPLETE.code) {
        findings.extend(services(&left, &right));
        findings.extend(services(&right, &left));
    }
    findings
}

/// Whether the peer believes the certificate that a gateway shows to it.
fn believed(gateway: &Gateway, connection: &Connection, peer: &Gateway) -> bool {
    let own = gateway.own_certificate(connection);
    own.is_some_and(|own| own.names(&connection.ike().local_identity.value) && peer.authorities.iter().any(|issuer| own.issued_by(issuer)))
}

fn modes(connection: &Connection) -> Vec<uspan_model::gateway::Mode> {
    connection.children.iter().map(|child| child.mode.value).collect()
}

/// What selectors name: networks, IP protocol, ports.
type Named = (Vec<IpNet>, Vec<IpNet>, Option<u8>, [Option<u16>; 2]);

/// The selector lists of each child, and to what they are limited; turned round if asked.
fn selectors(connection: &Connection, turned: bool) -> BTreeSet<Named> {
    let each = connection.children.iter().map(|child| {
        let (local, remote, [own, far]) = (child.local.value.clone(), child.remote.value.clone(), child.ports.value);
        match turned {
            true => (remote, local, child.protocol.value, [far, own]),
            false => (local, remote, child.protocol.value, [own, far]),
        }
    });
    each.collect()
}

/// A session as the other end should have it.
fn turned_round(session: &BgpSession) -> BgpSession {
    BgpSession {
        own_as: session.peer_as,
        peer_as: session.own_as,
        router_id: session.router_id,
        own: session.neighbour,
        neighbour: session.own,
        announces: session.accepts.clone(),
        accepts: session.announces.clone(),
    }
}

/// The outer addresses of GRE are those of the selectors.
fn wrapped(gateway: &Gateway) -> bool {
    let ends = |interface: &TunnelInterface| match interface.kind {
        InterfaceKind::Gre { local, remote } => Some((IpNet::from(local), IpNet::from(remote))),
        InterfaceKind::Numbered(_) => None,
    };
    let wanted = gateway.wraps().then(|| gateway.selector_pairs().next()).flatten();
    gateway.interfaces.iter().find_map(ends) == wanted
}

fn esp_alike(one: &Connection, other: &Connection) -> bool {
    one.children.iter().all(|child| {
        let twin = other.children.iter().find(|twin| twin.local.value == child.remote.value && twin.remote.value == child.local.value);
        !child.esp.value.is_empty() && twin.is_none_or(|twin| twin.esp == child.esp)
    })
}

/// Every remote network of a route-based end is routed into its interface, and into a black hole behind that.
fn routing(end: &End<'_>) -> Option<Finding> {
    let steered = end.gateway.wraps() || end.gateway.connections.iter().any(|connection| connection.interface.value.is_some());
    let whole = |own: &IpNet, net: &IpNet| {
        let mut through = end.gateway.routes.iter().filter(|route| route.to == *net && route.from.is_none_or(|from| from == *own));
        let into = through.clone().find(|route| matches!(route.through, Through::Interface(_)));
        let hole = through.find(|route| route.through == Through::BlackHole);
        let learned = end.gateway.sessions.iter().any(|session| session.accepts.contains(net));
        match (into, hole) {
            (Some(into), Some(hole)) => into.metric < hole.metric,
            // A learned route is preferred to one whose distance is the last (RFC 4271 knows none; FRRouting's manual).
            (None, Some(hole)) => learned && hole.metric >> 24 == 0xff,
            _ => false,
        }
    };
    let pairs = end.gateway.crossing();
    if steered && pairs.is_empty() {
        return Some(Finding::new(&rules::ROUTES_INCOMPLETE, format!("{}: nothing is routed into the tunnel", end.name)));
    }
    let whole = |apparent: &IpNet, remote: &IpNet| whole(&end.gateway.inner(*apparent, *remote), remote);
    let (_, lost) = pairs.iter().find(|(apparent, remote)| steered && !whole(apparent, remote))?;
    let message = format!("{}: {lost} is not routed into the tunnel with a black hole behind it", end.name);
    Some(Finding::new(&rules::ROUTES_INCOMPLETE, message))
}

/// The exemption covers each pair of selectors both ways, and nothing else, and gives way to a translation one to one
/// exactly where there is one.
fn exemption(end: &End<'_>) -> Option<Finding> {
    let mut wanted = BTreeSet::new();
    // What a gateway itself sends has the address already.
    let crossing = if end.gateway.speaks_for_itself() { BTreeSet::new() } else { end.gateway.crossing() };
    for (apparent, remote) in crossing {
        let local = end.gateway.inner(apparent, remote);
        if local != apparent {
            let target = NatTarget::appearing(local, apparent);
            wanted.insert((local, remote, target));
            if matches!(target, NatTarget::SourceNet(_)) {
                wanted.insert((remote, apparent, NatTarget::DestinationNet(local)));
            }
        } else if end.shares_internet {
            wanted.insert((local, remote, NatTarget::KeepSource));
        }
        // What goes on to the internet is translated there.
        if end.shares_internet && local.prefix_len() > 0 {
            wanted.insert((remote, local, NatTarget::KeepSource));
        }
    }
    let have: BTreeSet<_> = end.gateway.nat.iter().map(|rule| (rule.from, rule.to, rule.target)).collect();
    let done = |target: &NatTarget| match target {
        NatTarget::KeepSource => "exempt from translation".to_owned(),
        NatTarget::SourceTo(address) => format!("translated to {address}"),
        NatTarget::SourceNet(_) | NatTarget::DestinationNet(_) => "translated one to one".to_owned(),
    };
    let message = match (wanted.difference(&have).next(), have.difference(&wanted).next()) {
        (Some((from, to, target)), _) => format!("{}: traffic from {from} to {to} is not {}", end.name, done(target)),
        (_, Some((from, to, target))) => {
            format!("{}: traffic from {from} to {to} is {} although it does not cross", end.name, done(target))
        }
        _ => return None,
    };
    Some(Finding::new(&rules::EXEMPTION_INEXACT, message))
}

/// The filter lets IKE, ESP and each pair both ways through.
fn passage(end: &End<'_>) -> Vec<Finding> {
    let mut findings = Vec::new();
    let empty = Filter { form: FilterForm::Standalone, rules: Vec::new() };
    let filter = end.gateway.filter.as_ref().unwrap_or(&empty);
    let mut need = |verdict: Verdict, packet: Packet, otherwise: &dyn Fn() -> String| {
        if filter.verdict(&packet) != Some(verdict) {
            let not = if verdict == Verdict::Accept { "the filter does not allow " } else { "" };
            findings.push(Finding::new(&rules::FILTER_INCOMPLETE, format!("{}: {not}{}", end.name, otherwise())));
        }
    };
    for connection in &end.gateway.connections {
        let ipv4 = connection.outer_ipv4();
        let (peer, me) = (connection.remote.value.range(ipv4), connection.local.value.range(ipv4));
        let reach = |traffic| Packet { hook: Hook::Input, from: peer, to: me, protection: Protection::Any, traffic };
        for carrier in connection.keying.carriers() {
            need(Verdict::Accept, reach(carrier.traffic()), &|| format!("{carrier} from {}", connection.remote.value));
        }
        if end.gateway.wraps() {
            let gre = |hook, from, to, protection| Packet { hook, from, to, protection, traffic: Traffic::Gre };
            for (hook, from, to, protection) in
                [(Hook::Input, peer, me, Protection::Arrived), (Hook::Output, me, peer, Protection::Leaving)]
            {
                need(Verdict::Accept, gre(hook, from, to, protection), &|| format!("GRE from {from} to {to} through the tunnel"));
                need(Verdict::Drop, gre(hook, from, to, Protection::Any), &|| format!("GRE from {from} to {to} may pass in clear"));
            }
        }
    }
    let [leaving, arrived] = end.gateway.protections();
    let [departing, arriving] = end.gateway.hooks();
    if end.gateway.speaks_for_itself() {
        for (local, remote) in end.gateway.crossing() {
            let bare = |hook, from, to, traffic| Packet { hook, from, to, protection: Protection::Any, traffic };
            for traffic in Carrier::ALL.map(Carrier::traffic) {
                let packet = bare(departing, local, remote, traffic);
                need(Verdict::Accept, packet, &|| format!("IKE and ESP from {local} to {remote}"));
            }
            for (hook, from, to) in [(departing, local, remote), (arriving, remote, local)] {
                need(Verdict::Drop, bare(hook, from, to, Traffic::Any), &|| format!("traffic from {from} to {to} may pass in clear"));
            }
        }
    }
    for session in &end.gateway.sessions {
        let (from, to, protection) = (session.neighbour.into(), session.own.into(), arrived.clone());
        let packet = Packet { hook: Hook::Input, from, to, protection, traffic: BgpSession::traffic() };
        need(Verdict::Accept, packet, &|| format!("BGP from {}", session.neighbour));
    }
    for (apparent, remote) in end.gateway.crossing() {
        let local = end.gateway.inner(apparent, remote);
        let pass = |hook, from, to, protection, traffic| Packet { hook, from, to, protection, traffic };
        // Where only some services may open connections, at least their replies come back.
        let late = end.gateway.translates_late(apparent, remote);
        let out = if late { Protection::Any } else { leaving.clone() };
        let there = pass(departing, local, remote, out, Traffic::Replies);
        let back = pass(arriving, remote, local, arrived.clone(), Traffic::Replies);
        need(Verdict::Accept, there, &|| format!("{local} to {remote} through the tunnel"));
        need(Verdict::Accept, back, &|| format!("{remote} to {local} out of the tunnel"));
        if late {
            let departs = |protection| Packet { hook: Hook::Departure, from: apparent, to: remote, protection, traffic: Traffic::Any };
            need(Verdict::Accept, departs(leaving.clone()), &|| format!("{apparent} to {remote} through the tunnel"));
            let in_clear = || format!("{local}, translated to {apparent}, may leave for {remote} in clear");
            need(Verdict::Drop, departs(Protection::Any), &in_clear);
        }
    }
    findings
}

/// What the filter lets through from one end's networks to the other's, at both ends: for each pair, what leaves here
/// and what arrives there must be the same.
fn services(near: &End<'_>, far: &End<'_>) -> Option<Finding> {
    near.gateway.crossing().into_iter().find_map(|(from, to)| {
        let (leaves, arrives) = (near.gateway.passing(from, to, true), far.gateway.passing(to, from, false));
        let lost = leaves.symmetric_difference(&arrives).next()?;
        let (lets, stops) = if leaves.contains(lost) { (near, far) } else { (far, near) };
        let message = format!("{lost} from {from} to {to} passes at {} and not at {}", lets.name, stops.name);
        Some(Finding::new(&rules::FILTER_INCOMPLETE, message))
    })
}
