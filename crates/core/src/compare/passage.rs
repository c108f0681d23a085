//! What stands around the tunnel: exemption from translation, and the filter.

use std::collections::BTreeSet;

use ipnet::IpNet;

use super::{Shown, Side, Table, Verdict, plain};
use crate::gateway::NatTarget;

impl Table<'_> {
    pub(super) fn passage(&mut self) {
        self.steering();
        self.crossing();
        self.exemption();
        self.filter();
    }

    /// What brings packets to the tunnel; the two ends may differ in that.
    fn steering(&mut self) {
        let values = self.sides.map(|side| {
            let interface = side.looked.gateway.interfaces.first().filter(|_| side.steers());
            plain(interface.map_or("the selectors".to_owned(), |interface| format!("routes into {}", interface.name)))
        });
        let routed = self.sides.map(|side| side.steers());
        let verdict = match self.crossed {
            true => Verdict::equal(),
            false => Verdict::unless(routed[0] == routed[1], || Verdict::compatible("Another style at this end.")),
        };
        self.add("steered by", values, verdict);
    }

    /// What crosses where the selectors do not say it: what is routed into the tunnel and passes the filter.
    fn crossing(&mut self) {
        if !self.sides.iter().any(Side::steers) {
            return;
        }
        let of = |end: usize, turned: bool| -> BTreeSet<(IpNet, IpNet)> {
            let pairs = pairs(&self.sides[end]).into_iter();
            pairs.map(|(local, remote)| if turned { (remote, local) } else { (local, remote) }).collect()
        };
        let (one, other) = (of(0, false), of(1, self.crossed));
        let words = |pairs: &BTreeSet<(IpNet, IpNet)>| match pairs.is_empty() {
            true => "nothing".to_owned(),
            false => pairs.iter().map(|(near, far)| format!("{near} ⇄ {far}")).collect::<Vec<_>>().join("\n"),
        };
        let values = [plain(words(&one)), plain(words(&other))];
        let verdict = Verdict::unless(one == other && !one.is_empty(), || {
            Verdict::fatal(
                "SAs come up; what is routed at one end and not at the other goes one way and finds no way back.",
                "Route the same networks into the tunnel at both ends, and let the filter pass them.",
            )
        });
        self.add("what crosses", values, verdict);
    }

    /// Whether traffic between the networks keeps its addresses.
    fn exemption(&mut self) {
        let found = self.sides.map(|side| translation(&side));
        if found.iter().all(|found| *found == Found::Nothing) {
            return;
        }
        let values = [0, 1].map(|end| found[end].shown());
        let names = self.names();
        let verdict = match &found {
            [Found::Translated(..), _] | [_, Found::Translated(..)] => Verdict::fatal(
                "Packets for the tunnel are translated before the selectors see them: they leave in clear with another address.",
                "Put the exemption before the rule that translates.",
            ),
            [Found::Exempt, Found::Exempt] => Verdict::equal(),
            [one, other] if one == other => Verdict::equal(),
            _ => {
                let lacking = names[usize::from(found[0] != Found::Nothing)];
                Verdict::compatible(format!(
                    "If {lacking} translates what leaves for the internet, connections from behind it leave with the gateway's address and fit no selector."
                ))
            }
        };
        self.add("exemption from NAT", values, verdict);
    }

    /// Both directions, at each end that has a filter for the tunnel.
    fn filter(&mut self) {
        for (direction, leaving) in [("outbound filter", true), ("inbound filter", false)] {
            let found = self.sides.map(|side| passes(&side, leaving));
            if found.iter().all(Option::is_none) {
                continue;
            }
            let value = |found: &Option<Result<String, String>>| match found {
                None => plain("no rules seen"),
                Some(Ok(what)) => plain(what.clone()),
                Some(Err(lacking)) => plain(format!("does not pass: {lacking}")),
            };
            let values = [value(&found[0]), value(&found[1])];
            let blocked = (0..2).find(|end| matches!(found[*end], Some(Err(_))));
            let verdict = match blocked {
                Some(end) => {
                    let name = self.names()[end];
                    let practice = match leaving {
                        true => format!("SAs come up; what is sent from behind {name} is dropped there, and nothing is counted out."),
                        false => format!("SAs come up; what arrives at {name} is decrypted and dropped: out works, in does not."),
                    };
                    Verdict::fatal(practice, "Allow each pair of networks in both directions.")
                }
                None if self.crossed => Verdict::equal(),
                None => Verdict::unless(found[0] == found[1], || Verdict::compatible("Something else passes.")),
            };
            self.add(direction, values, verdict);
        }
    }
}

impl Side<'_> {
    /// Whether routes bring packets to the tunnel.
    fn steers(&self) -> bool {
        self.connection.interface.value.is_some() || self.looked.gateway.wraps()
    }
}

/// What becomes of a source on its way into the tunnel.
#[derive(Clone, Debug, PartialEq, Eq)]
enum Found {
    Nothing,
    Exempt,
    Translated(IpNet, String),
}

impl Found {
    fn shown(&self) -> Shown {
        plain(match self {
            Found::Nothing => "none seen".to_owned(),
            Found::Exempt => "exempt".to_owned(),
            Found::Translated(net, to) => format!("{net} becomes {to}"),
        })
    }
}

/// The first rule that meets traffic of a pair decides.
fn translation(side: &Side<'_>) -> Found {
    let gateway = side.looked.gateway;
    let mut exempt = false;
    for (local, remote) in pairs(side) {
        let inner = gateway.inner(local, remote);
        let meets = |from: &IpNet, to: &IpNet| from.contains(&inner) && to.contains(&remote);
        match gateway.nat.iter().find(|rule| !rule.before_routing() && meets(&rule.from, &rule.to)).map(|rule| rule.target) {
            Some(NatTarget::SourceTo(address)) => return Found::Translated(inner, address.to_string()),
            Some(_) => exempt = true,
            // What goes into a tunnel interface does not leave through the outside one.
            None if !side.steers() && gateway.masquerade(inner.addr()).is_some() => {
                return Found::Translated(inner, "the gateway's own address".to_owned());
            }
            None => {}
        }
    }
    if exempt { Found::Exempt } else { Found::Nothing }
}

fn pairs(side: &Side<'_>) -> Vec<(IpNet, IpNet)> {
    let children = side.connection.children.iter();
    let own: Vec<_> =
        children.flat_map(|child| child.local.value.iter().flat_map(|l| child.remote.value.iter().map(|r| (*l, *r)))).collect();
    let any = own.iter().all(|(local, remote)| local.prefix_len() == 0 && remote.prefix_len() == 0);
    if any || side.looked.gateway.wraps() { side.looked.gateway.crossing().into_iter().collect() } else { own }
}

/// What passes of every pair in a direction, or the first pair of which nothing does.
fn passes(side: &Side<'_>, leaving: bool) -> Option<Result<String, String>> {
    side.looked.gateway.filter.as_ref()?;
    let mut words: Vec<String> = Vec::new();
    for (local, remote) in pairs(side) {
        let passing = side.looked.gateway.passing(local, remote, leaving);
        if passing.is_empty() {
            let (from, to) = if leaving { (local, remote) } else { (remote, local) };
            return Some(Err(format!("{from} to {to}")));
        }
        let text = passing.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ");
        if !words.contains(&text) {
            words.push(text);
        }
    }
    Some(Ok(words.join("; ")))
}
