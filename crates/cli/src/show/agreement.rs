//! What both ends of a tunnel agreed on.

use std::collections::BTreeSet;
use std::hash::{Hash, Hasher};
use std::time::Duration;

use serde_json::{Value, json};
use uspan_core::{
    BuiltTunnel, Connection, Encapsulation, Exchange, Gateway, InterfaceKind, Opening, Passing, Proposal, UncarriedPair, duration_words,
};

use super::table::table;
use super::{GOOD, HEADING, QUIET, styled};

/// A tunnel in a few lines; with every reason if asked.
pub fn text(tunnel: &BuiltTunnel, reasons: bool) -> String {
    let mut lines = vec![styled(HEADING, &format!("{}: {} ⇄ {}", tunnel.name, tunnel.ends[0], tunnel.ends[1]))];
    let (own, agreed): (Vec<_>, Vec<_>) = rows(tunnel).into_iter().partition(|row| row[0].starts_with("own ") || row[1] != row[2]);
    lines.push(table(&["each end", &tunnel.ends[0], &tunnel.ends[1]], own, &[0]));
    lines.push(String::new());
    let agreed = agreed.into_iter().map(|mut row| row.drain(..2).collect()).collect();
    lines.push(table(&["both ends", "agreed"], agreed, &[0]));
    if reasons {
        let rows = tunnel.agreement.reasons.iter().map(|reason| {
            let mark = if reason.taken { styled(GOOD, "taken") } else { styled(QUIET, "dropped") };
            vec![reason.about.word().to_owned(), mark, reason.value.clone(), reason.why.clone()]
        });
        let plain: Vec<Vec<String>> =
            rows.map(|row| row.iter().map(|cell| anstream::adapter::strip_str(cell).to_string()).collect()).collect();
        lines.push(String::new());
        lines.push(table(&["about", "", "value", "reason"], plain, &[0, 1]));
    } else {
        let dropped: Vec<_> = tunnel.agreement.reasons.iter().filter(|reason| !reason.taken).collect();
        for reason in &dropped {
            lines.push(format!("{} {}: {}", reason.about.word(), reason.value, reason.why));
        }
    }
    lines.join("\n")
}

/// What tunnels that are alike have in common: all that is shown of them but their addresses, identities and networks.
#[derive(PartialEq, Eq, Hash)]
pub struct TunnelKind([EndKind; 2]);

#[derive(PartialEq, Eq)]
struct EndKind {
    style: String,
    hosts_may_open: String,
    exchange: Exchange,
    encapsulation: Encapsulation,
    ike: Vec<Proposal>,
    esp: Vec<Proposal>,
    lifetimes: [Duration; 2],
    liveness: Option<Duration>,
    opening: Opening,
}

/// Of what tells most kinds apart.
impl Hash for EndKind {
    fn hash<H: Hasher>(&self, state: &mut H) {
        self.style.hash(state);
        self.hosts_may_open.hash(state);
        [self.ike.len(), self.esp.len()].hash(state);
        self.lifetimes.hash(state);
    }
}

/// The kind that a tunnel is of.
pub fn kind(tunnel: &BuiltTunnel) -> TunnelKind {
    TunnelKind(tunnel.gateways.each_ref().map(|gateway| {
        let connection = &gateway.connections[0];
        let (ike, child) = (connection.ike(), connection.children.first());
        let passing = gateway.hosts_may_open();
        EndKind {
            style: style(gateway),
            hosts_may_open: if passing == Passing::All { String::new() } else { passing.to_string() },
            exchange: ike.exchange.value,
            encapsulation: connection.encapsulation.value,
            ike: ike.proposals.value.clone(),
            esp: child.map(|child| child.esp.value.clone()).unwrap_or_default(),
            lifetimes: [ike.lifetime.value.hard, esp_life(connection)],
            liveness: ike.liveness.value,
            opening: opening(connection),
        }
    }))
}

/// What steers packets into the tunnel.
fn style(gateway: &Gateway) -> String {
    match gateway.interfaces.first() {
        Some(interface) => {
            let how = if matches!(interface.kind, InterfaceKind::Gre { .. }) { "GRE" } else { "route-based" };
            format!("{how}, {}\n{} bytes", interface.name, interface.mtu)
        }
        None if gateway.speaks_for_itself() => {
            let child = gateway.connections.first().and_then(|connection| connection.children.first());
            format!("a host: {}", child.map_or("", |child| child.mode.value.words()))
        }
        None => "policy-based".to_owned(),
    }
}

/// How long the ESP SAs live; without any, as long as the IKE SA.
fn esp_life(connection: &Connection) -> Duration {
    connection.children.first().map_or(connection.ike().lifetime.value.hard, |child| child.lifetime.value.hard)
}

fn opening(connection: &Connection) -> Opening {
    connection.children.first().map_or(Opening::WAIT, |child| child.opening.value)
}

/// The facts of both ends side by side, in neutral words.
fn rows(tunnel: &BuiltTunnel) -> Vec<Vec<String>> {
    let connections = [&tunnel.gateways[0].connections[0], &tunnel.gateways[1].connections[0]];
    let gateway = |c: &Connection| if std::ptr::eq(c, connections[0]) { &tunnel.gateways[0] } else { &tunnel.gateways[1] };
    let peer = |c: &Connection| if std::ptr::eq(c, connections[0]) { connections[1] } else { connections[0] };
    let row = |name: &str, value: &dyn Fn(&Connection) -> String| vec![name.to_owned(), value(connections[0]), value(connections[1])];
    let list = |items: Vec<String>| items.join("\n");
    let mut rows = vec![
        row("own address", &|c| match c.local.value == peer(c).remote.value {
            true => c.local.value.to_string(),
            false => format!("{}\nreached at {}", c.local.value, peer(c).remote.value),
        }),
        row("own identity", &|c| format!("{} ({})", c.ike().local_identity.value, c.ike().local_identity.value.kind())),
    ];
    rows.push(row("own networks", &|c| {
        let own = |(apparent, remote)| match gateway(c).inner(apparent, remote) {
            local if local.prefix_len() == 0 => format!("everything ({local})"),
            local if local == apparent => apparent.to_string(),
            local => format!("{local}\n  as {apparent}"),
        };
        if gateway(c).speaks_for_itself() {
            return "itself alone".to_owned();
        }
        let nets: BTreeSet<_> = gateway(c).crossing().into_iter().map(own).collect();
        list(nets.into_iter().collect())
    }));
    rows.extend(uncarried(tunnel));
    let limited = |c: &Connection| c.children.first().and_then(|child| Some((child.protocol.value?, child.ports.value)));
    if !tunnel.gateways[0].wraps() && limited(connections[0]).is_some() {
        let words = |c: &Connection| {
            limited(c).map_or_else(String::new, |(protocol, [own, _])| match own {
                Some(port) => format!("IP protocol {protocol}, port {port}"),
                None => format!("IP protocol {protocol}"),
            })
        };
        rows.push(row("selectors limited to", &words));
    }
    rows.push(row("own style", &|c| style(gateway(c))));
    // Everything is not worth a line.
    if tunnel.gateways.iter().any(|gateway| gateway.hosts_may_open() != Passing::All) {
        rows.push(row("own hosts may open", &|c| gateway(c).hosts_may_open().to_string()));
    }
    rows.push(row("key exchange", &|c| c.ike().exchange.value.words().to_owned()));
    rows.push(row("ESP in UDP", &|c| match (c.encapsulation.value, peer(c).encapsulation.value) {
        // One that cannot be told follows the other.
        (Encapsulation::Forced, _) | (_, Encapsulation::Forced) => "always".to_owned(),
        (Encapsulation::Off, _) | (_, Encapsulation::Off) => "never".to_owned(),
        _ => "where a NAT device is found".to_owned(),
    }));
    let ike = connections.map(|c| c.ike().proposals.value.as_slice());
    let esp = connections.map(|c| c.children.first().map(|child| child.esp.value.as_slice()).unwrap_or_default());
    for (name, [one, other]) in [("IKE", ike), ("ESP", esp)] {
        let words = |list: &[Proposal]| list.iter().map(ToString::to_string).collect::<Vec<_>>().join("\n");
        let first = words(one);
        let second = if one == other { first.clone() } else { words(other) };
        rows.push(vec![name.to_owned(), first, second]);
    }
    rows.push(row("lifetimes", &|c| format!("IKE {}, ESP {}", duration_words(c.ike().lifetime.value.hard), duration_words(esp_life(c)))));
    rows.push(row("liveness", &|c| c.ike().liveness.value.map_or("off".to_owned(), duration_words)));
    rows.push(row("opens", &|c| opening(c).words().to_owned()));
    rows
}

/// What does not cross, and what becomes of it: networks that no pair has, and the pairs of others.
fn uncarried(tunnel: &BuiltTunnel) -> Vec<Vec<String>> {
    let unreached = &tunnel.unreached;
    let mut rows = Vec::new();
    if unreached.iter().any(|list| !list.is_empty()) {
        let of = |end: usize| unreached[end].iter().map(|(name, net)| format!("{name} {net}")).collect::<Vec<_>>().join("\n");
        rows.push(vec!["not reached".to_owned(), of(0), of(1)]);
    }
    let is_told = |pair: &&UncarriedPair| (0..2).any(|end| unreached[end].iter().any(|(_, net)| *net == pair.prefixes[end]));
    let pairs: Vec<_> = tunnel.uncarried.iter().filter(|pair| !is_told(pair)).collect();
    if !pairs.is_empty() {
        let of = |end: usize| pairs.iter().map(|pair| format!("{} {}", pair.names[end], pair.prefixes[end])).collect::<Vec<_>>().join("\n");
        rows.push(vec!["not carried".to_owned(), of(0), of(1)]);
    }
    if !tunnel.uncarried.is_empty() {
        rows.push(vec!["what is not carried".to_owned(), tunnel.fate_of_uncarried(0).to_owned(), tunnel.fate_of_uncarried(1).to_owned()]);
    }
    rows
}

/// A tunnel as JSON.
pub fn json(tunnel: &BuiltTunnel) -> Value {
    let agreement = &tunnel.agreement;
    let reasons: Vec<_> =
        agreement.reasons.iter().map(|r| json!({ "about": r.about.word(), "taken": r.taken, "value": r.value, "why": r.why })).collect();
    let pairs: Vec<_> = tunnel.gateways[0].crossing().iter().map(|(one, other)| json!([one.to_string(), other.to_string()])).collect();
    let uncarried: Vec<_> =
        tunnel.uncarried.iter().map(|pair| json!({ "pair": pair.prefixes.map(|net| net.to_string()), "dropped": pair.dropped })).collect();
    json!({
        "tunnel": tunnel.name,
        "between": tunnel.ends,
        "ike": agreement.ike.iter().map(ToString::to_string).collect::<Vec<_>>(),
        "esp": agreement.esp.iter().map(ToString::to_string).collect::<Vec<_>>(),
        "ike_lifetime_s": agreement.ike_lifetime.hard.as_secs(),
        "esp_lifetime_s": agreement.esp_lifetime.hard.as_secs(),
        "liveness_s": agreement.liveness.map(|interval| interval.as_secs()),
        "key_exchange": agreement.exchange.version().words(),
        "aggressive": agreement.exchange == Exchange::V1Aggressive,
        "any_to_any": agreement.any_to_any,
        "inner_mtu": agreement.inner_mtu,
        "pairs": pairs,
        "not_reached": tunnel.unreached.each_ref().map(|list| list.iter().map(|(_, net)| net.to_string()).collect::<Vec<_>>()),
        "not_carried": uncarried,
        "hosts_may_open": tunnel.gateways.each_ref().map(|gateway| gateway.hosts_may_open().to_string()),
        "reasons": reasons,
    })
}
