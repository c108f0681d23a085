//! Writes interfaces(5).

use std::fmt::Write as _;

use super::{FOLDER, rules_for, table_of};
use crate::dialect::{Draft, remark};
use crate::dialect::{Remarks, Unwritable};
use uspan_model::gateway::{Gateway, InterfaceKind, Through, Tree};

/// The files of a gateway, or what they cannot say.
pub fn write(gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
    let mut tree = Tree::default();
    if gateway.interfaces.is_empty() && gateway.routes.is_empty() {
        return Ok(tree);
    }
    let [interface] = gateway.interfaces.as_slice() else {
        return Err(vec![Unwritable::new("routes of a tunnel without one interface", "Give the tunnel one interface.")]);
    };
    crate::dialect::interface(&interface.name).map_err(|refused| vec![refused])?;
    let mut out = Draft::new(&remarks.head);
    let name = &interface.name;
    let _ = writeln!(out, "auto {name}\niface {name} inet manual");
    let _ = match interface.kind {
        InterfaceKind::Numbered(id) => writeln!(out, "\tpre-up ip link add {name} type xfrm if_id {id}"),
        InterfaceKind::Gre { local, remote } if local.is_ipv4() => {
            writeln!(out, "\tpre-up ip link add {name} type gre local {local} remote {remote} ttl 64")
        }
        // The limit would cost 8 bytes of every packet (RFC 2473 section 4.1.1).
        InterfaceKind::Gre { local, remote } => {
            writeln!(out, "\tpre-up ip link add {name} type ip6gre local {local} remote {remote} hoplimit 64 encaplimit none")
        }
    };
    remark(&mut out, "\t", &remarks.mtu);
    let _ = writeln!(out, "\tup ip link set {name} mtu {} up", interface.mtu);
    if !interface.addresses.is_empty() {
        remark(&mut out, "\t", &remarks.link);
    }
    for address in &interface.addresses {
        let _ = writeln!(out, "\tup ip address add {address} dev {name}");
    }
    remark(&mut out, "\t", &remarks.routes);
    let mut undo = Vec::new();
    for route in &gateway.routes {
        let through = match &route.through {
            Through::Interface(at) if at == name => format!("{} dev {name} metric {}", route.to, route.metric),
            Through::Interface(_) => return Err(vec![Unwritable::new("a route into another interface", "Route into its own.")]),
            Through::BlackHole => format!("blackhole {} metric {}", route.to, route.metric),
        };
        let table = route.from.map_or_else(String::new, |from| format!(" table {}", table_of(from)));
        let _ = writeln!(out, "\tup ip route add {through}{table}");
        if route.through == Through::BlackHole {
            undo.push(format!("ip route del {through}{table}"));
            // Whatever else is routed goes there first; only then those of the network.
            for lookup in route.from.iter().flat_map(|from| rules_for(*from, route.metric)) {
                // A rule, unlike a route, does not take its family from the prefix.
                let ip = if route.to.addr().is_ipv4() { "ip" } else { "ip -6" };
                let _ = writeln!(out, "\tup {ip} rule add {lookup}");
                undo.push(format!("{ip} rule del {lookup}"));
            }
        }
    }
    // The other routes go with the interface. Nobody looks for what is not there any more.
    for command in undo.iter().rev() {
        let _ = writeln!(out, "\tdown {command}");
    }
    let _ = writeln!(out, "\tpost-down ip link del {name}");
    tree.add(format!("{FOLDER}/uspan-{}", remarks.stem), out.public());
    Ok(tree)
}
