//! Writes FRRouting's configuration of a session.

use std::fmt::Write as _;

use super::{TIMERS, family, path};
use crate::dialect::{Draft, comment};
use crate::dialect::{Remarks, Unwritable};
use uspan_model::gateway::{Gateway, Tree};

/// The files of a gateway, or what they cannot say.
pub fn write(gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
    let mut tree = Tree::default();
    let session = match gateway.sessions.as_slice() {
        [] => return Ok(tree),
        [session] => session,
        _ => return Err(vec![Unwritable::new("several routing sessions in one tunnel", "Give it one.")]),
    };
    let stem = &remarks.stem;
    if stem.is_empty() || !stem.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-') {
        return Err(vec![Unwritable::new("a list name with other characters than letters, digits and `-`", "Choose a plain name.")]);
    }
    let ipv4 = session.neighbour.is_ipv4();
    let alike = |nets: &[ipnet::IpNet]| nets.iter().all(|net| net.addr().is_ipv4() == ipv4);
    if session.own.is_ipv4() != ipv4 || !alike(&session.announces) || !alike(&session.accepts) {
        return Err(vec![Unwritable::new("a session of one family that carries the other", "Use addresses of one family.")]);
    }
    let (word, afi) = family(session);
    let (own_as, peer_as, own, neighbour) = (session.own_as, session.peer_as, session.own, session.neighbour);
    let mut out = Draft::default();
    for line in remarks.head.iter().map(String::as_str).chain([remarks.routing.text()]) {
        comment(&mut out, "!", line);
    }
    out.follows(&remarks.routing);
    for (way, nets) in [("in", &session.accepts), ("out", &session.announces)] {
        for (i, net) in nets.iter().enumerate() {
            let _ = writeln!(out, "{word} prefix-list uspan-{stem}-{way} seq {} permit {net}", 5 * (i + 1));
        }
    }
    let _ = writeln!(out, "router bgp {own_as}");
    if let Some(id) = session.router_id {
        let _ = writeln!(out, " bgp router-id {id}");
    }
    let _ = writeln!(out, " neighbor {neighbour} remote-as {peer_as}");
    let _ = writeln!(out, " neighbor {neighbour} description uspan-{stem}\n neighbor {neighbour} update-source {own}");
    let _ = writeln!(out, " neighbor {neighbour} timers {} {}\n neighbor {neighbour} timers connect {}", TIMERS.0, TIMERS.1, TIMERS.0);
    if !ipv4 {
        // A session over IPv6 carries IPv4 unless it is told not to.
        let _ = writeln!(out, " address-family ipv4 unicast\n  no neighbor {neighbour} activate\n exit-address-family");
    }
    let _ = writeln!(out, " address-family {afi} unicast");
    for net in &session.announces {
        let _ = writeln!(out, "  network {net}");
    }
    let _ = writeln!(out, "  neighbor {neighbour} activate");
    for way in ["in", "out"] {
        let _ = writeln!(out, "  neighbor {neighbour} prefix-list uspan-{stem}-{way} {way}");
    }
    out.push_str(" exit-address-family\nexit\n");
    tree.add(path(stem), out.public());
    Ok(tree)
}
