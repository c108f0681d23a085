//! What both ends of a tunnel agreed on.

use std::collections::BTreeSet;

use serde_json::{Value, json};
use uspan_core::{BuiltTunnel, Connection, Encapsulation, Exchange, InterfaceKind, Opening, Passing, Proposal, duration_words};

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

/// What tunnels that are alike have in common: all that was agreed on, and the platforms of their ends.
pub fn kind(tunnel: &BuiltTunnel) -> String {
    let own = |row: &Vec<String>| row[0].starts_with("own ") && row[0] != "own style" && row[0] != "own hosts may open";
    let rows = rows(tunnel).into_iter().filter(|row| !own(row)).map(|row| row.join("\t"));
    rows.collect::<Vec<_>>().join("\n")
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
            local if local == apparent => apparent.to_string(),
            local => format!("{local}\n  as {apparent}"),
        };
        if gateway(c).speaks_for_itself() {
            return "itself alone".to_owned();
        }
        let nets: BTreeSet<_> = gateway(c).crossing().into_iter().map(own).collect();
        list(nets.into_iter().collect())
    }));
    rows.push(row("own style", &|c| match gateway(c).interfaces.first() {
        Some(interface) => {
            let how = if matches!(interface.kind, InterfaceKind::Gre { .. }) { "GRE" } else { "route-based" };
            format!("{how}, {}\n{} bytes", interface.name, interface.mtu)
        }
        None if gateway(c).speaks_for_itself() => "a host: transport mode".to_owned(),
        None => "policy-based".to_owned(),
    }));
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
    rows.push(row("lifetimes", &|c| {
        let esp = c.children.first().map_or(c.ike().lifetime.value.hard, |child| child.lifetime.value.hard);
        format!("IKE {}, ESP {}", duration_words(c.ike().lifetime.value.hard), duration_words(esp))
    }));
    rows.push(row("liveness", &|c| c.ike().liveness.value.map_or("off".to_owned(), duration_words)));
    rows.push(row("opens", &|c| match c.children.first().map(|child| child.opening.value) {
        Some(opening) => opening.words().to_owned(),
        None => Opening::WAIT.words().to_owned(),
    }));
    rows
}

/// A tunnel as JSON.
pub fn json(tunnel: &BuiltTunnel) -> Value {
    let agreement = &tunnel.agreement;
    let reasons: Vec<_> =
        agreement.reasons.iter().map(|r| json!({ "about": r.about.word(), "taken": r.taken, "value": r.value, "why": r.why })).collect();
    let pairs: Vec<_> = tunnel.gateways[0].crossing().iter().map(|(one, other)| json!([one.to_string(), other.to_string()])).collect();
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
        "hosts_may_open": tunnel.gateways.each_ref().map(|gateway| gateway.hosts_may_open().to_string()),
        "reasons": reasons,
    })
}
