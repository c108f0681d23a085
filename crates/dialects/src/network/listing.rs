//! Listings of ip-address(8) and ip-route(8): the addresses and routes that a gateway had when they were made.

use std::net::IpAddr;

use ipnet::IpNet;

use uspan_model::gateway::{Endpoint, OwnAddress, ReadAt, Route, RoutingTable, Through, Tree};
use uspan_model::source::Source;

/// `ip address`.
pub(super) const ADDRESSES: &str = "listing/ip-address";
/// `ip route` and `ip -6 route`.
pub(super) const ROUTES: [(&str, bool); 2] = [("listing/ip-route", true), ("listing/ip6-route", false)];

/// Addresses that hosts elsewhere can reach. Total.
pub(super) fn of_listing(source: &Source) -> Vec<OwnAddress> {
    let mut found = Vec::new();
    let mut interface = "";
    for (line, span) in source.lines() {
        let words: Vec<&str> = line.split_whitespace().collect();
        match words.as_slice() {
            [number, name, flags, ..] if number.ends_with(':') && flags.starts_with('<') => {
                interface = name.trim_end_matches(':').split('@').next().unwrap_or_default();
            }
            ["inet" | "inet6", rest @ ..] if !rest.ends_with(&["link"]) && !rest.windows(2).any(|pair| pair == ["scope", "link"]) => {
                let address = rest.first().and_then(|text| text.parse().ok().or_else(|| text.parse::<IpAddr>().ok().map(IpNet::from)));
                let place = ReadAt(Some(source.place(span)));
                found.extend(address.map(|address| OwnAddress { interface: interface.to_owned(), address, place }));
            }
            _ => {}
        }
    }
    found
}

/// The routing table, as far as it was listed. Total: a line that is no route is left out.
pub fn routing_table(tree: &Tree) -> RoutingTable {
    let [ipv4, ipv6] = ROUTES.map(|(path, ipv4)| {
        let file = tree.files.get(path)?;
        let source = Source::new(path, file.text.as_str());
        let routes = source.lines().filter_map(|(line, span)| {
            let place = ReadAt(Some(source.place(span)));
            route(&line.split_whitespace().collect::<Vec<_>>(), ipv4).map(|route| Route { place, ..route })
        });
        Some(routes.collect())
    });
    RoutingTable { ipv4, ipv6 }
}

fn route(words: &[&str], ipv4: bool) -> Option<Route> {
    let (nowhere, words) = match words {
        ["blackhole" | "unreachable" | "prohibit", rest @ ..] => (true, rest),
        // Those of the table `local` are the gateway's own addresses.
        ["local" | "broadcast" | "anycast" | "multicast" | "throw" | "nexthop", ..] => return None,
        ["unicast", rest @ ..] => (false, rest),
        rest => (false, rest),
    };
    let (to, rest) = words.split_first()?;
    let to = match *to {
        "default" => Endpoint::Anywhere.range(ipv4),
        net => net.parse().ok().or_else(|| net.parse::<IpAddr>().ok().map(IpNet::from))?,
    };
    let after = |key: &str| rest.iter().position(|word| *word == key).and_then(|at| rest.get(at + 1));
    // Those of other tables are for packets that a rule leads there.
    if after("table").is_some_and(|table| *table != "main") {
        return None;
    }
    let through = match (nowhere, after("dev")) {
        (true, _) => Through::BlackHole,
        (false, Some(name)) => Through::Interface((*name).to_owned()),
        // Several ways stand on the lines behind it.
        (false, None) => Through::Interface(String::new()),
    };
    let metric = after("metric").and_then(|metric| metric.parse().ok()).unwrap_or(0);
    Some(Route { to, from: None, through, metric, place: ReadAt::default() })
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;

    #[test]
    fn addresses_as_they_are_listed() {
        let text = "1: lo: <LOOPBACK,UP,LOWER_UP> mtu 65536 qdisc noqueue state UNKNOWN group default qlen 1000\n\
                    \x20   inet 127.0.0.1/8 scope host lo\n\
                    2: wan0@if5: <BROADCAST,MULTICAST,UP,LOWER_UP> mtu 1500 qdisc noqueue state UP group default\n\
                    \x20   link/ether 02:00:00:00:00:01 brd ff:ff:ff:ff:ff:ff\n\
                    \x20   inet 198.51.100.20/24 brd 198.51.100.255 scope global wan0\n\
                    \x20   inet6 fe80::1/64 scope link\n\
                    3: uspan1: <POINTOPOINT,NOARP,UP,LOWER_UP> mtu 1400\n    inet 10.254.0.1 peer 10.254.0.2/32 scope global uspan1\n";
        let found = super::super::addresses(&Tree::of(ADDRESSES, text));
        let words: Vec<_> = found.iter().map(|own| format!("{} {}", own.interface, own.address)).collect();
        assert_eq!(words, ["lo 127.0.0.1/8", "wan0 198.51.100.20/24", "uspan1 10.254.0.1/32"]);
    }

    #[test]
    fn routes_as_they_are_listed() {
        let text = "default via 198.51.100.1 dev wan0 proto static \n10.41.0.0/22 dev lan0 proto kernel scope link src 10.41.0.1 \n\
                    blackhole 10.73.16.0/20 metric 4107 \n10.73.16.0/20 dev uspan1 scope link metric 10 \n\
                    203.0.113.9 via 198.51.100.1 dev wan0\ndefault dev uspan1 table 1000000007\n10.9.0.0/16 proto static\n\tnexthop via 10.41.0.2 dev lan0 weight 1\n";
        let table = routing_table(&Tree::of("listing/ip-route", text));
        let words = |route: &Route| format!("{} {} {}", route.to, route.through, route.metric);
        let routes: Vec<_> = table.ipv4.expect("listed").iter().map(words).collect();
        let wanted = [
            "0.0.0.0/0 into wan0 0",
            "10.41.0.0/22 into lan0 0",
            "10.73.16.0/20 to nowhere 4107",
            "10.73.16.0/20 into uspan1 10",
            "203.0.113.9/32 into wan0 0",
            "10.9.0.0/16 into  0",
        ];
        assert_eq!(routes, wanted);
        assert!(table.ipv6.is_none());
    }

    proptest! {
        #[test]
        fn any_text_is_survived(text in "[defaultvi0-9:<>./ metrcsop\n\té]{0,200}") {
            let _ = routing_table(&Tree::of("listing/ip-route", &text));
            let _ = super::super::addresses(&Tree::of(ADDRESSES, &text));
        }
    }
}
