//! Reads interfaces(5): what the writer writes, and names everything else.

use ipnet::IpNet;

use super::{FOLDER, table_of};
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{InterfaceKind, ReadAt, Route, Through, Tree, TunnelInterface};
use uspan_model::source::Source;

/// The interfaces and routes of a tree. Total: what is not understood is reported.
pub fn read(tree: &Tree) -> (Vec<TunnelInterface>, Vec<Route>, Vec<Finding>) {
    let (mut interfaces, mut routes, mut findings) = (Vec::new(), Vec::new(), Vec::new());
    for (path, file) in tree.in_folder(FOLDER, "") {
        let source = Source::new(path, file.text.as_str());
        let mut tables = Tables::default();
        for (line, span) in source.lines() {
            let words: Vec<&str> = line.split_whitespace().collect();
            let before = routes.len();
            let known = match words.as_slice() {
                ["up", "ip", "rule", "add", rest @ ..] => tables.rule(rest, true, &mut routes),
                ["up", "ip", "-6", "rule", "add", rest @ ..] => tables.rule(rest, false, &mut routes),
                words => statement(words, &mut interfaces, &mut routes, &mut tables),
            };
            routes[before..].iter_mut().for_each(|route: &mut Route| route.place = ReadAt(Some(source.place(span))));
            if known.is_none() {
                let message = format!("`{line}` is not understood");
                findings.push(Finding::new(&rules::DEVICE_UNKNOWN, message).at(source.place(span)));
            }
        }
        // Last ones first, so that places stay true.
        for (at, number) in tables.routes.into_iter().rev() {
            let route = routes.remove(at);
            let message = format!("no rule leads to table {number}, where the route to {} stands", route.to);
            let finding = Finding::new(&rules::DEVICE_UNKNOWN, message);
            findings.push(route.place.0.iter().cloned().fold(finding, Finding::at));
        }
    }
    (interfaces, routes, findings)
}

/// Routing tables of networks, on the way through a file.
#[derive(Default)]
struct Tables {
    /// Places of routes whose network is not known yet, with the number of their table.
    routes: Vec<(usize, u32)>,
    /// Networks whose packets look at the other routes first, and from which rule on.
    behind: Vec<(IpNet, u32)>,
}

impl Tables {
    /// A rule: it says whose a table is.
    fn rule(&mut self, words: &[&str], ipv4: bool, routes: &mut [Route]) -> Option<()> {
        let ["from", from, "lookup", table, rest @ ..] = words else { return None };
        let from = from.parse().ok().filter(|net: &IpNet| net.addr().is_ipv4() == ipv4)?;
        let (priority, first) = match rest {
            ["suppress_prefixlength", "0", "priority", priority] if *table == "main" => (priority.parse().ok()?, true),
            ["priority", priority] => (priority.parse().ok()?, false),
            _ => return None,
        };
        if first {
            self.behind.push((from, priority));
            return Some(());
        }
        let number = table_of(from);
        let last = |(at, of): &(usize, u32)| *of == number && routes[*at].through == Through::BlackHole && routes[*at].metric == priority;
        let whole = self.routes.iter().any(last) && self.behind.contains(&(from, priority));
        (whole && *table == number.to_string()).then_some(())?;
        for (at, _) in self.routes.extract_if(.., |(_, of)| *of == number) {
            routes[at].from = Some(from);
        }
        Some(())
    }
}

fn interface(name: &str, kind: InterfaceKind) -> TunnelInterface {
    TunnelInterface { name: name.to_owned(), kind, mtu: 1500, addresses: Vec::new() }
}

fn statement(words: &[&str], interfaces: &mut Vec<TunnelInterface>, routes: &mut Vec<Route>, tables: &mut Tables) -> Option<()> {
    let known = |name: &str, interfaces: &[TunnelInterface]| interfaces.iter().position(|interface| interface.name == name);
    match words {
        [] | ["auto", _] | ["iface", _, "inet", "manual"] | ["down" | "post-down", "ip", ..] => {}
        [first, ..] if first.starts_with('#') => {}
        ["pre-up", "ip", "link", "add", name, "type", "xfrm", "if_id", id] => {
            interfaces.push(interface(name, InterfaceKind::Numbered(id.parse().ok()?)));
        }
        ["pre-up", "ip", "link", "add", name, "type", "gre", "local", local, "remote", remote, "ttl", "64"]
        | [
            "pre-up",
            "ip",
            "link",
            "add",
            name,
            "type",
            "ip6gre",
            "local",
            local,
            "remote",
            remote,
            "hoplimit",
            "64",
            "encaplimit",
            "none",
        ] => {
            interfaces.push(interface(name, InterfaceKind::Gre { local: local.parse().ok()?, remote: remote.parse().ok()? }));
        }
        ["up", "ip", "link", "set", name, "mtu", mtu, "up"] => {
            let at = known(name, interfaces)?;
            interfaces[at].mtu = mtu.parse().ok()?;
        }
        ["up", "ip", "address", "add", address, "dev", name] => {
            let at = known(name, interfaces)?;
            interfaces[at].addresses.push(address.parse().ok()?);
        }
        ["up", "ip", "route", "add", rest @ ..] => {
            let (to, through, metric, table) = match rest {
                ["blackhole", to, "metric", metric, table @ ..] => (to, Through::BlackHole, metric, table),
                [to, "dev", name, "metric", metric, table @ ..] => {
                    known(name, interfaces)?;
                    (to, Through::Interface((*name).to_owned()), metric, table)
                }
                _ => return None,
            };
            match table {
                [] => {}
                ["table", number] => tables.routes.push((routes.len(), number.parse().ok()?)),
                _ => return None,
            }
            routes.push(Route { to: to.parse().ok()?, from: None, through, metric: metric.parse().ok()?, place: ReadAt::default() });
        }
        _ => return None,
    }
    Some(())
}

#[cfg(test)]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use uspan_model::gateway::TreeFile;

    fn tree(text: &str) -> Tree {
        let mut tree = Tree::default();
        tree.add("etc/network/interfaces.d/uspan-x", TreeFile::public(text.to_owned()));
        tree
    }

    #[test]
    fn a_route_into_an_interface_that_nobody_makes_is_named() {
        let (_, routes, findings) = read(&tree("iface a inet manual\n up ip route add 10.1.0.0/16 dev a metric 50\n"));
        assert!(routes.is_empty());
        assert!(findings[0].message.contains("10.1.0.0/16"), "{findings:?}");
    }

    #[test]
    fn a_table_is_a_networks_by_its_two_rules_alone() {
        let routes = "auto a\niface a inet manual\n\tpre-up ip link add a type xfrm if_id 7\n\tup ip route add 0.0.0.0/0 dev a metric 10 table N\n\t\
                      up ip route add blackhole 0.0.0.0/0 metric 4096 table N\n";
        let rules = "\tup ip rule add from 10.2.0.0/22 lookup main suppress_prefixlength 0 priority 4096\n\
                     \tup ip rule add from 10.2.0.0/22 lookup N priority 4096\n";
        let number = table_of("10.2.0.0/22".parse().expect("a prefix")).to_string();
        let found = |text: &str| {
            let (_, routes, findings) = read(&tree(&text.replace('N', &number)));
            (routes.iter().map(|route| route.from.map(|net| net.to_string())).collect::<Vec<_>>(), findings.len())
        };
        let own = Some("10.2.0.0/22".to_owned());
        assert_eq!(found(&[routes, rules].concat()), (vec![own.clone(), own], 0));
        // Without the first rule other routes would be passed over; without both the table is nobody's.
        assert_eq!(found(&[routes, rules.lines().next_back().expect("a line"), "\n"].concat()), (Vec::new(), 3));
        assert_eq!(found(routes), (Vec::new(), 2));
        assert_eq!(found(&[routes, &rules.replace("4096", "5000")].concat()), (Vec::new(), 3));
    }

    proptest! {
        #[test]
        fn any_text_is_survived(text in "[autoifceprdlk 0-9./:#\n\té]{0,200}") {
            let _ = read(&tree(&text));
        }
    }
}
