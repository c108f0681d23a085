//! In what two gateways differ, in words.

use super::{Child, Connection, Filter, Gateway};

/// A field of a connection or a Child SA: what it is called, and whether two have the same.
type Same<T> = (&'static str, fn(&T, &T) -> bool);

#[rustfmt::skip]
const OF_CONNECTION: &[Same<Connection>] = &[
    ("the name", |a, b| a.name == b.name),
    ("the version or the mode of IKE", |a, b| a.ike().exchange == b.ike().exchange),
    ("the own address", |a, b| a.local == b.local),
    ("the peer's address", |a, b| a.remote == b.remote),
    ("ESP in UDP", |a, b| a.encapsulation == b.encapsulation),
    ("the own identity", |a, b| a.ike().local_identity == b.ike().local_identity),
    ("the peer's identity", |a, b| a.ike().remote_identity == b.ike().remote_identity),
    ("how this end proves itself", |a, b| a.ike().local_method == b.ike().local_method),
    ("how the peer proves itself", |a, b| a.ike().remote_method == b.ike().remote_method),
    ("the proposals for IKE", |a, b| a.ike().proposals == b.ike().proposals),
    ("the life of the IKE SA", |a, b| a.ike().lifetime == b.ike().lifetime),
    ("liveness", |a, b| a.ike().liveness == b.ike().liveness),
    ("for how long it tries to reach the peer", |a, b| a.ike().persistent == b.ike().persistent),
    ("the interface that steers", |a, b| a.interface == b.interface),
    ("the number of Child SAs", |a, b| a.children.len() == b.children.len()),
];

#[rustfmt::skip]
const OF_CHILD: &[Same<Child>] = &[
    ("the name", |a, b| a.name == b.name),
    ("the local networks", |a, b| a.local == b.local),
    ("the remote networks", |a, b| a.remote == b.remote),
    ("the protocol", |a, b| a.protocol == b.protocol),
    ("the proposals for ESP or AH", |a, b| a.esp == b.esp),
    ("the ports", |a, b| a.ports == b.ports),
    ("whether a part is enough", |a, b| a.narrowing == b.narrowing),
    ("the mode", |a, b| a.mode == b.mode),
    ("the life of the ESP SAs", |a, b| a.lifetime == b.lifetime),
    ("when it opens", |a, b| a.opening == b.opening),
    ("what happens when the peer is dead", |a, b| a.on_dead_peer == b.on_dead_peer),
    ("the replay window", |a, b| a.replay_window == b.replay_window),
    ("the DSCP", |a, b| a.dscp == b.dscp),
];

fn named<T>(list: &[Same<T>], one: &T, other: &T, of: &str) -> Vec<String> {
    list.iter().filter(|(_, same)| !same(one, other)).map(|(words, _)| format!("{words} of `{of}`")).collect()
}

/// In what the IKE parts of two gateways differ; nothing where they are the same.
pub fn ike_differences(one: &Gateway, other: &Gateway) -> Vec<String> {
    let mut differ = Vec::new();
    if one.connections.len() != other.connections.len() {
        differ.push("the number of connections".to_owned());
    }
    for (a, b) in one.connections.iter().zip(&other.connections) {
        differ.extend(named(OF_CONNECTION, a, b, &a.name));
        differ.extend(a.children.iter().zip(&b.children).flat_map(|(x, y)| named(OF_CHILD, x, y, &x.name)));
    }
    let rest = [
        ("the shared secrets", one.secrets == other.secrets),
        ("the own keys", one.key_pairs == other.key_pairs),
        ("the keys of peers", one.pinned == other.pinned),
        ("the authorities", one.authorities == other.authorities),
    ];
    differ.extend(rest.iter().filter(|(_, same)| !same).map(|(words, _)| (*words).to_owned()));
    // Whatever the lists above leave out is a difference too.
    if differ.is_empty() && one.connections != other.connections {
        differ.push("a setting of a connection".to_owned());
    }
    differ
}

/// In what the rules of two gateways differ.
pub fn rule_differences(one: &Gateway, other: &Gateway) -> Vec<String> {
    let count = |filter: &Option<Filter>| filter.as_ref().map_or(0, |filter| filter.rules.len());
    let mut differ = Vec::new();
    if one.nat != other.nat {
        let odd = one.nat.iter().find(|rule| !other.nat.contains(rule));
        differ
            .push(odd.map_or("the order of translations".to_owned(), |rule| format!("the translation from {} to {}", rule.from, rule.to)));
    }
    if one.filter != other.filter {
        let rules = |gateway: &Gateway| gateway.filter.iter().flat_map(|filter| filter.rules.clone()).collect::<Vec<_>>();
        let (planned, read) = (rules(one), rules(other));
        let odd = planned.iter().find(|rule| !read.contains(rule));
        differ.push(match odd {
            Some(rule) => format!("the filter rule from {} to {}", rule.from, rule.to),
            None if count(&one.filter) == 0 => "a filter without a rule".to_owned(),
            None => "the order or the form of the filter's rules".to_owned(),
        });
    }
    if one.segment_limits != other.segment_limits {
        differ.push("the limits of TCP segments".to_owned());
    }
    differ
}
