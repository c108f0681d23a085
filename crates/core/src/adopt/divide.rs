//! Child SAs of one connection that a description says in tunnels of their own, because they differ in what a tunnel has once.

use super::Adoptee;
use uspan_dialects::profile::AskedSecondTunnel;
use uspan_model::gateway::{Child, Connection, GRE};

/// The connections of two ends in parts, each a tunnel: one, unless the platforms have several with a peer.
pub(super) fn divided(ends: [Adoptee<'_>; 2], connections: [&Connection; 2]) -> Vec<[Connection; 2]> {
    let [one, other] = connections;
    let whole = || vec![connections.map(Connection::clone)];
    let mut parts: Vec<[Vec<Child>; 2]> = Vec::new();
    for child in &one.children {
        let twin = other.children.iter().find(|twin| (&twin.local.value, &twin.remote.value) == (&child.remote.value, &child.local.value));
        // What has no counterpart is told of where the two are held against each other.
        let Some(twin) = twin else { return whole() };
        match parts.iter_mut().find(|part| part[0].first().is_some_and(|first| alike(one, first, child))) {
            Some(part) => {
                part[0].push(child.clone());
                part[1].push(twin.clone());
            }
            None => parts.push([vec![child.clone()], vec![twin.clone()]]),
        }
    }
    let matched: usize = parts.iter().map(|part| part[1].len()).sum();
    if parts.len() < 2 || matched != other.children.len() || !can_share(ends, connections, &parts) {
        return whole();
    }
    let with = |connection: &Connection, children| Connection { children, ..connection.clone() };
    parts.into_iter().map(|[near, far]| [with(one, near), with(other, far)]).collect()
}

/// Whether a tunnel can have both: what it says once is the same.
fn alike(connection: &Connection, first: &Child, child: &Child) -> bool {
    let once = |child: &Child| (child.protocol.value, child.ports.value, child.mode.value, child.lifetime.value);
    once(first) == once(child) && first.esp.value == child.esp.value && connection.joins_gateways(first) == connection.joins_gateways(child)
}

/// Whether the two platforms have such tunnels with one peer.
fn can_share(ends: [Adoptee<'_>; 2], connections: [&Connection; 2], parts: &[[Vec<Child>; 2]]) -> bool {
    let firsts = || parts.iter().filter_map(|part| part[0].first());
    let other_esp = firsts().any(|child| firsts().next().is_some_and(|first| first.esp.value != child.esp.value));
    let hosts = firsts().any(|child| connections[0].joins_gateways(child) && child.protocol.value != Some(GRE));
    [0, 1].into_iter().all(|end| {
        let connection = connections[end];
        let opens = connection.children.iter().any(|child| child.opening.value.opens());
        let interface = connection.interface.value.is_some();
        ends[end].facts.second_tunnel_obstacle(AskedSecondTunnel { other_esp, interface, opens_hosts: hosts && opens }).is_none()
    })
}
