//! Reads FRRouting's configuration: what the writer writes, and names everything else.

use std::collections::BTreeMap;
use std::net::{IpAddr, Ipv4Addr};

use ipnet::IpNet;

use super::{FOLDER, TIMERS};
use crate::dialect::VTYSH;
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{BgpSession, Tree};
use uspan_model::source::{Source, Span};

/// The sessions of a tree. Total: what is not understood is reported.
pub fn read(tree: &Tree) -> (Vec<BgpSession>, Vec<Finding>) {
    let (mut sessions, mut findings) = (Vec::new(), Vec::new());
    for (path, file) in tree.in_folder(FOLDER, ".conf").filter(|(path, _)| path.contains("/uspan-")) {
        let source = Source::new(path, file.text.as_str());
        let mut found = FoundSession::default();
        findings.extend(VTYSH.in_pieces(&source));
        for (line, span) in VTYSH.statements(&source) {
            let words: Vec<&str> = line.split_whitespace().collect();
            if found.statement(&words).is_none() {
                let message = format!("`{line}` is not understood");
                findings.push(Finding::new(&rules::DEVICE_UNKNOWN, message).at(source.place(span)));
            }
        }
        let neighbours = std::mem::take(&mut found.neighbours);
        for (neighbour, named) in neighbours {
            match found.session(neighbour, &named) {
                Some(session) => sessions.push(session),
                None => {
                    let message = format!("the session with {neighbour} is not whole: what it may say and hear, or between which systems");
                    findings.push(Finding::new(&rules::DEVICE_VALUE, message).at(source.place(Span { start: 0, end: 0 })));
                }
            }
        }
    }
    (sessions, findings)
}

/// What a file says of a neighbour.
#[derive(Default)]
struct NamedList {
    peer_as: Option<u32>,
    own: Option<IpAddr>,
    accepts: Option<String>,
    announces: Option<String>,
    timed: bool,
    active: bool,
}

#[derive(Default)]
struct FoundSession {
    own_as: Option<u32>,
    router_id: Option<Ipv4Addr>,
    lists: BTreeMap<String, Vec<IpNet>>,
    networks: Vec<IpNet>,
    neighbours: BTreeMap<IpAddr, NamedList>,
}

impl FoundSession {
    fn statement(&mut self, words: &[&str]) -> Option<()> {
        match words {
            [] | ["exit" | "exit-address-family"] | ["address-family", "ipv4" | "ipv6", "unicast"] => {}
            [first, ..] if first.starts_with('!') => {}
            ["ip" | "ipv6", "prefix-list", name, "seq", _, "permit", net] => {
                self.lists.entry((*name).to_owned()).or_default().push(net.parse().ok()?);
            }
            ["router", "bgp", number] => self.own_as = Some(number.parse().ok()?),
            ["bgp", "router-id", id] => self.router_id = Some(id.parse().ok()?),
            ["network", net] => self.networks.push(net.parse().ok()?),
            ["neighbor", neighbour, rest @ ..] => {
                let named = self.neighbours.entry(neighbour.parse().ok()?).or_default();
                match rest {
                    ["remote-as", number] => named.peer_as = Some(number.parse().ok()?),
                    ["update-source", own] => named.own = Some(own.parse().ok()?),
                    ["description", ..] | ["timers", "connect", _] => {}
                    ["timers", ask, give_up] => named.timed = (ask.parse().ok()?, give_up.parse().ok()?) == TIMERS,
                    ["activate"] => named.active = true,
                    ["prefix-list", name, "in"] => named.accepts = Some((*name).to_owned()),
                    ["prefix-list", name, "out"] => named.announces = Some((*name).to_owned()),
                    _ => return None,
                }
            }
            ["no", "neighbor", neighbour, "activate"] => self.neighbours.entry(neighbour.parse().ok()?).or_default().active = false,
            _ => return None,
        }
        Some(())
    }

    /// A session that is active, and announces exactly what its list lets out.
    fn session(&self, neighbour: IpAddr, named: &NamedList) -> Option<BgpSession> {
        let list = |name: &Option<String>| self.lists.get(name.as_ref()?).cloned();
        let (announces, accepts) = (list(&named.announces)?, list(&named.accepts)?);
        let whole = named.active && named.timed && announces.iter().all(|net| self.networks.contains(net));
        whole.then_some(())?;
        Some(BgpSession {
            own_as: self.own_as?,
            peer_as: named.peer_as?,
            router_id: self.router_id,
            own: named.own?,
            neighbour,
            announces,
            accepts,
        })
    }
}

#[cfg(test)]
mod tests {
    use super::*;
    use crate::dialect::Remarks;
    use proptest::prelude::*;
    use uspan_model::gateway::{Gateway, TreeFile};

    fn session(own_as: u32, peer_as: u32, v4: bool, nets: &[u8]) -> BgpSession {
        let net = |n: &u8| if v4 { format!("10.{n}.0.0/16") } else { format!("fd{n:02x}::/64") };
        let all = |list: &[u8]| list.iter().map(|n| net(n).parse().expect("a net")).collect::<Vec<IpNet>>();
        let at = |v4: &str, v6: &str, is: bool| if is { v4.parse() } else { v6.parse() }.expect("an address");
        let (own, neighbour): (IpAddr, IpAddr) = (at("10.255.0.0", "fd00:ff::", v4), at("10.255.0.1", "fd00:ff::1", v4));
        BgpSession {
            own_as,
            peer_as,
            router_id: (!v4).then_some(Ipv4Addr::new(1, 2, 3, 4)),
            own,
            neighbour,
            announces: all(nets),
            accepts: all(&[200]),
        }
    }

    fn tree(text: &str) -> Tree {
        let mut tree = Tree::default();
        tree.add("etc/frr/uspan-x.conf", TreeFile::public(text.to_owned()));
        tree
    }

    proptest! {
        #[test]
        fn a_session_reads_back(own_as in 1u32.., peer_as in 1u32.., v4: bool, nets in prop::collection::vec(0u8..99, 1..4)) {
            let gateway = Gateway { sessions: vec![session(own_as, peer_as, v4, &nets)], ..Gateway::default() };
            let remarks = Remarks { stem: "x".to_owned(), ..Remarks::default() };
            let (sessions, findings) = read(&super::super::write(&gateway, &remarks).expect("sayable"));
            prop_assert_eq!(findings, []);
            prop_assert_eq!(sessions, gateway.sessions);
        }

        #[test]
        fn any_text_is_survived(text in "[neighborutpflsaw.:0-9/ \n!é-]{0,200}") {
            let _ = read(&tree(&text));
        }
    }

    #[test]
    fn a_session_that_lets_anything_in_is_not_whole() {
        let text = "router bgp 65001\n neighbor 10.255.0.1 remote-as 65002\n neighbor 10.255.0.1 update-source 10.255.0.0\n \
                    neighbor 10.255.0.1 timers 10 30\n address-family ipv4 unicast\n  neighbor 10.255.0.1 activate\n";
        let (sessions, findings) = read(&tree(text));
        assert!(sessions.is_empty());
        assert!(findings[0].message.contains("10.255.0.1"), "{findings:?}");
    }
}
