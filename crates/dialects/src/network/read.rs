//! Reads interfaces(5): what the writer writes, and names everything else.

use super::FOLDER;
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{InterfaceKind, ReadAt, Route, Through, Tree, TunnelInterface};
use uspan_model::source::Source;

/// The interfaces and routes of a tree. Total: what is not understood is reported.
pub fn read(tree: &Tree) -> (Vec<TunnelInterface>, Vec<Route>, Vec<Finding>) {
    let (mut interfaces, mut routes, mut findings) = (Vec::new(), Vec::new(), Vec::new());
    for (path, file) in tree.in_folder(FOLDER, "") {
        let source = Source::new(path, file.text.as_str());
        for (line, span) in source.lines() {
            let words: Vec<&str> = line.split_whitespace().collect();
            let before = routes.len();
            let known = statement(&words, &mut interfaces, &mut routes);
            routes[before..].iter_mut().for_each(|route: &mut Route| route.place = ReadAt(Some(source.place(span))));
            if known.is_none() {
                let message = format!("`{line}` is not understood");
                findings.push(Finding::new(&rules::DEVICE_UNKNOWN, message).at(source.place(span)));
            }
        }
    }
    (interfaces, routes, findings)
}

fn interface(name: &str, kind: InterfaceKind) -> TunnelInterface {
    TunnelInterface { name: name.to_owned(), kind, mtu: 1500, addresses: Vec::new() }
}

fn statement(words: &[&str], interfaces: &mut Vec<TunnelInterface>, routes: &mut Vec<Route>) -> Option<()> {
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
        ["up", "ip", "route", "add", "blackhole", to, "metric", metric] => {
            routes.push(Route {
                to: to.parse().ok()?,
                through: Through::BlackHole,
                metric: metric.parse().ok()?,
                place: ReadAt::default(),
            });
        }
        ["up", "ip", "route", "add", to, "dev", name, "metric", metric] => {
            known(name, interfaces)?;
            routes.push(Route {
                to: to.parse().ok()?,
                through: Through::Interface((*name).to_owned()),
                metric: metric.parse().ok()?,
                place: ReadAt::default(),
            });
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

    proptest! {
        #[test]
        fn any_text_is_survived(text in "[autoifceprdlk 0-9./:#\n\té]{0,200}") {
            let _ = read(&tree(&text));
        }
    }
}
