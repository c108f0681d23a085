//! What a new configuration of a gateway changes in the one before, and when that takes effect.

use std::collections::BTreeMap;
use std::fmt;

use crate::build::verify;
use uspan_description::description::Site;
use uspan_dialects::context::Context;
use uspan_dialects::profile::Interrupts;
use uspan_model::duration::duration_words;
use uspan_model::gateway::{Child, Connection, Gateway, InterfaceKind, Lifetime, NatTarget, OnDeadPeer, Protection, Traffic, Tree};
use uspan_model::parameter::{Effect, Parameter};

/// One difference, in neutral words.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Change {
    /// The tunnel; empty where it concerns the whole gateway.
    pub tunnel: String,
    /// The parameter.
    pub parameter: Parameter,
    /// The same in words, with whose it is.
    pub about: &'static str,
    /// What was there.
    pub before: String,
    /// What will be there.
    pub now: String,
    /// When it takes effect.
    pub effect: Effect,
    /// Whether the peer must change at the same time.
    pub both_ends: bool,
}

/// What a site's new files change in those before. Nothing where there were none, or the same ones.
pub fn changes(site: &Site, before: &Tree, now: &Tree, context: &Context) -> Vec<Change> {
    // Most sites of a large build stay as they are, and need not be read.
    let same = before.files.len() == now.files.len()
        && before.files.iter().zip(&now.files).all(|(one, other)| one.0 == other.0 && one.1.text == other.1.text);
    if same || before.files.is_empty() {
        return Vec::new();
    }
    let read = |tree: &Tree| verify(&site.platform.value, site.packet_filter, tree).0;
    let (mut old, new) = (read(before), read(now));
    let mut all = Vec::new();
    // Perhaps another daemon was there.
    if old.connections.is_empty() {
        let platforms = context.profiles.iter().map(|other| (other, verify(other, site.packet_filter, before).0));
        if let Some((other, gateway)) =
            platforms.max_by_key(|(_, gateway)| gateway.connections.len()).filter(|(_, g)| !g.connections.is_empty())
        {
            let [before, now] = [other, &site.platform.value].map(|profile| profile.title.to_string());
            let (parameter, effect) = (Parameter::Platform, Effect::Interrupts);
            all.push(Change { tunnel: String::new(), parameter, about: parameter.words(), before, now, effect, both_ends: false });
            old = gateway;
        }
    }
    all.extend(between(&old, &new));
    // A daemon that ends SAs when it takes up their files leaves no choice of the moment.
    let opened = |tunnel: &str| {
        let connections = old.connections.iter().filter(|connection| connection.name == tunnel);
        connections.flat_map(|connection| &connection.children).any(|child| child.opening.value.start)
    };
    for change in &mut all {
        let ends = match *site.platform.value.take_up_interrupts {
            Interrupts::Nothing => false,
            Interrupts::WhereItOpens => opened(&change.tunnel),
            Interrupts::ItsTunnels => true,
        };
        // When it opens is said to the daemon too.
        if ends && (change.effect == Effect::AtOpening || change.parameter == Parameter::Opening) {
            change.effect = Effect::Interrupts;
        }
    }
    all
}

/// What differs between two states of a gateway.
fn between(old: &Gateway, new: &Gateway) -> Vec<Change> {
    let mut all = Vec::new();
    let (before, now) = (by_name(old), by_name(new));
    for (name, connection) in &before {
        match now.get(name) {
            Some(other) => all.extend(TwoStates { old, new, before: connection, now: other }.changes()),
            None => all.push(whole(name, "present", "absent", Effect::Closes)),
        }
    }
    all.extend(now.keys().filter(|name| !before.contains_key(*name)).map(|name| whole(name, "absent", "present", Effect::Opens)));
    for (of, before, now) in [
        ((Parameter::Exemption, "NAT rules"), translations(old), translations(new)),
        ((Parameter::OutboundFilter, "filter rules"), filter(old), filter(new)),
        ((Parameter::Crossing, "interface and routes"), routes(old), routes(new)),
    ] {
        all.extend(rules(of, &before, &now));
    }
    all
}

fn by_name(gateway: &Gateway) -> BTreeMap<&str, &Connection> {
    gateway.connections.iter().map(|connection| (connection.name.as_str(), connection)).collect()
}

fn whole(name: &str, before: &str, now: &str, effect: Effect) -> Change {
    let (parameter, [before, now]) = (Parameter::Tunnel, [before, now].map(str::to_owned));
    Change { tunnel: name.to_owned(), parameter, about: parameter.words(), before, now, effect, both_ends: true }
}

/// A tunnel in both states.
struct TwoStates<'a> {
    old: &'a Gateway,
    new: &'a Gateway,
    before: &'a Connection,
    now: &'a Connection,
}

impl TwoStates<'_> {
    fn changes(&self) -> Vec<Change> {
        let mut all = Vec::new();
        let mut say = |parameter: Parameter, about, [before, now]: [String; 2]| {
            if before != now {
                let (effect, both_ends) = (parameter.effect(), parameter.concerns_both_ends());
                all.push(Change { tunnel: self.now.name.clone(), parameter, about, before, now, effect, both_ends });
            }
        };
        use Parameter::*;
        say(KeyExchange, KeyExchange.words(), self.each(|c| c.ike().exchange.value.words().to_owned()));
        say(Address, "own address", self.each(|c| c.local.value.to_string()));
        say(Address, "peer's address", self.each(|c| c.remote.value.to_string()));
        say(Identity, "own identity", self.each(|c| c.ike().local_identity.value.to_string()));
        say(Identity, "peer's identity", self.each(|c| c.ike().remote_identity.value.to_string()));
        say(Authentication, Authentication.words(), self.each(|c| c.ike().local_method.value.words().to_owned()));
        let secrets = (self.old.secret_for(self.before), self.new.secret_for(self.now));
        say(SharedSecret, SharedSecret.words(), another(secrets.0 == secrets.1));
        say(Key, "own key", another(self.old.own_key(self.before) == self.new.own_key(self.now)));
        let shown = self.old.own_certificate(self.before) == self.new.own_certificate(self.now);
        say(Certificate, "own certificate", another(shown));
        say(Belief, "believed authority", another(self.old.authorities == self.new.authorities));
        say(Belief, "peer's key", another(self.old.pinned_key(self.before) == self.new.pinned_key(self.now)));
        say(Encapsulation, Encapsulation.words(), self.each(|c| format!("{:?}", c.encapsulation.value).to_lowercase()));
        say(IkeProposals, IkeProposals.words(), self.each(|c| list(&c.ike().proposals.value)));
        say(IkeLifetime, IkeLifetime.words(), self.each(|c| life(c.ike().lifetime.value)));
        say(Selectors, Selectors.words(), self.each(selectors));
        say(EspProposals, EspProposals.words(), self.first(|c| list(&c.esp.value)));
        say(SequenceNumbers, SequenceNumbers.words(), self.first(Child::sequence_numbers_words));
        say(EspMode, EspMode.words(), self.first(|c| format!("{:?}", c.mode.value).to_lowercase()));
        say(EspLifetime, EspLifetime.words(), self.first(|c| life(c.lifetime.value)));
        say(ReplayWindow, ReplayWindow.words(), self.first(|c| format!("{} packets", c.replay_window.value)));
        say(Dscp, Dscp.words(), self.first(|c| format!("{:?}", c.dscp.value).to_lowercase()));
        say(Opening, Opening.words(), self.first(opening));
        say(DeadPeer, DeadPeer.words(), self.first(dead));
        say(Liveness, Liveness.words(), self.each(|c| c.ike().liveness.value.map_or("off".to_owned(), duration_words)));
        say(
            Steering,
            Steering.words(),
            self.each(|c| c.interface.value.map_or("the selectors".to_owned(), |id| format!("routes into interface {id}"))),
        );
        // A pair comes or goes beside the others, where each has SAs of its own.
        if all.iter().all(|change| change.parameter == Selectors) && self.others_stay() {
            all.iter_mut().for_each(|change| change.effect = Effect::AtOnce);
        }
        all
    }

    /// Whether those Child SAs that are there in both states stay as they are, and there are some.
    fn others_stay(&self) -> bool {
        let kept = |child: &&Child| self.now.children.iter().any(|other| other.name == child.name);
        let mut kept = self.before.children.iter().filter(kept).peekable();
        kept.peek().is_some() && kept.all(|child| self.now.children.contains(child))
    }

    fn each(&self, value: impl Fn(&Connection) -> String) -> [String; 2] {
        [value(self.before), value(self.now)]
    }

    /// Child SAs of a tunnel differ in their selectors alone.
    fn first(&self, value: impl Fn(&Child) -> String) -> [String; 2] {
        self.each(|connection| connection.children.first().map(&value).unwrap_or_default())
    }
}

/// That it is another one, and no more.
fn another(same: bool) -> [String; 2] {
    ["one".to_owned(), if same { "one" } else { "another" }.to_owned()]
}

fn list<T: fmt::Display>(items: &[T]) -> String {
    items.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n")
}

fn life(lifetime: Lifetime) -> String {
    duration_words(lifetime.hard)
}

fn opening(child: &Child) -> String {
    if child.opening.value.opens() { child.opening.value.words().to_owned() } else { "never by itself".to_owned() }
}

fn dead(child: &Child) -> String {
    let word = match child.on_dead_peer.value {
        Some(OnDeadPeer::Reopen) => "open anew",
        Some(OnDeadPeer::AwaitTraffic) => "wait for traffic",
        Some(OnDeadPeer::Forget) => "forget it",
        None => "not noticed",
    };
    word.to_owned()
}

fn selectors(connection: &Connection) -> String {
    let nets = |nets: &[ipnet::IpNet]| nets.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
    let mut all: Vec<_> =
        connection.children.iter().map(|child| format!("{} to {}", nets(&child.local.value), nets(&child.remote.value))).collect();
    all.sort();
    all.join("\n")
}

/// Rules as lines, for comparing lists.
fn translations(gateway: &Gateway) -> Vec<String> {
    let line = |rule: &uspan_model::gateway::NatRule| {
        let done = match rule.target {
            NatTarget::KeepSource => "keeps its source".to_owned(),
            NatTarget::SourceTo(address) => format!("gets the source {address}"),
            NatTarget::SourceNet(net) => format!("gets a source of {net}"),
            NatTarget::DestinationNet(net) => format!("goes to {net}"),
        };
        format!("{} to {} {done}", rule.from, rule.to)
    };
    gateway.nat.iter().map(line).collect()
}

fn filter(gateway: &Gateway) -> Vec<String> {
    let rules = gateway.filter.iter().flat_map(|filter| &filter.rules);
    let line = |rule: &uspan_model::gateway::FilterRule| {
        let traffic = if rule.traffic == Traffic::Any { String::new() } else { format!(" {}", rule.traffic) };
        let protection = match &rule.protection {
            Protection::Any => "",
            Protection::Leaving | Protection::Into(_) => " into the tunnel",
            Protection::Arrived | Protection::OutOf(_) => " out of the tunnel",
        };
        format!("{:?}{traffic} {} to {}{protection}", rule.verdict, rule.from, rule.to).to_lowercase()
    };
    rules.map(line).collect()
}

fn routes(gateway: &Gateway) -> Vec<String> {
    let interfaces = gateway.interfaces.iter().flat_map(|interface| {
        let kind = match interface.kind {
            InterfaceKind::Numbered(_) => String::new(),
            InterfaceKind::Gre { local, remote } => format!(", GRE from {local} to {remote}"),
        };
        let own = interface.addresses.iter().map(|address| format!("{address} on {}", interface.name));
        std::iter::once(format!("{}, {} bytes{kind}", interface.name, interface.mtu)).chain(own).collect::<Vec<_>>()
    });
    let sessions = gateway.sessions.iter().map(|session| {
        let list = |nets: &[ipnet::IpNet]| nets.iter().map(ToString::to_string).collect::<Vec<_>>().join(" ");
        format!(
            "BGP {} with {} ({}), says {}, believes {}",
            session.own_as,
            session.neighbour,
            session.peer_as,
            list(&session.announces),
            list(&session.accepts)
        )
    });
    interfaces
        .chain(sessions)
        .chain(gateway.routes.iter().map(|route| format!("{} {}, metric {}", route.to, route.through, route.metric)))
        .collect()
}

/// Lists of rules are told by their number, and by the first that differs.
fn rules((parameter, about): (Parameter, &'static str), before: &[String], now: &[String]) -> Option<Change> {
    if before == now {
        return None;
    }
    let only = |one: &[String], other: &[String]| {
        let lines: Vec<_> = one.iter().filter(|line| !other.contains(line)).cloned().collect();
        match lines.len() {
            0 => "nothing else".to_owned(),
            1..=3 => lines.join("\n"),
            more => format!("{}\nand {} more", lines[..2].join("\n"), more - 2),
        }
    };
    let (before, now) = (only(before, now), only(now, before));
    let reordered = before == now;
    let now = if reordered { "in another order".to_owned() } else { now };
    Some(Change { tunnel: String::new(), parameter, about, before, now, effect: parameter.effect(), both_ends: false })
}
