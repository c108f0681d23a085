//! What stands around the tunnel: exemption from translation, and the filter.

use std::collections::BTreeSet;

use ipnet::IpNet;

use super::{Assessment, ComparedEnd, Comparing, Shown, plain};
use uspan_model::gateway::{
    Action, Carrier, Decider, Encapsulation, Hook, NatTarget, PacketAt, PassedInterface, Traffic, Translation, is_private,
};
use uspan_model::parameter::Parameter;
use uspan_model::source::Place;

impl Comparing<'_> {
    pub(super) fn passage(&mut self) {
        self.steering();
        self.crossing();
        self.exemption();
        self.entrance();
        self.filter();
    }

    /// What brings packets to the tunnel; the two ends may differ in that.
    fn steering(&mut self) {
        let values = self.sides.map(|side| {
            let interface = side.reading.gateway.interfaces.first().filter(|_| side.steers());
            plain(interface.map_or("the selectors".to_owned(), |interface| format!("routes into {}", interface.name)))
        });
        let routed = self.sides.map(|side| side.steers());
        let verdict = match self.crossed {
            true => Assessment::equal(),
            false => Assessment::unless(routed[0] == routed[1], || Assessment::compatible("Another style at this end.")),
        };
        self.add(Parameter::Steering, values, verdict);
    }

    /// What crosses where the selectors do not say it: what is routed into the tunnel and passes the filter.
    fn crossing(&mut self) {
        if !self.sides.iter().any(ComparedEnd::steers) {
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
        let silent = |side: &ComparedEnd<'_>| side.reading.gateway.routes.is_empty() && side.reading.gateway.sessions.is_empty();
        let unseen = [&one, &other].into_iter().zip(&self.sides).any(|(pairs, side)| pairs.is_empty() && silent(side));
        let verdict = Assessment::unless(one == other && !one.is_empty(), || {
            if unseen {
                return Assessment::compatible(
                    "What is routed into the tunnel stands in no file that was read: of what crosses nothing can be said.",
                );
            }
            Assessment::fatal(
                "SAs come up; what is routed at one end and not at the other goes one way and finds no way back.",
                "Route the same networks into the tunnel at both ends, and let the filter pass them.",
            )
        });
        self.add(Parameter::Crossing, values, verdict);
    }

    /// Whether traffic between the networks keeps its addresses.
    fn exemption(&mut self) {
        let found = self.sides.map(|side| translation(&side));
        if found.iter().all(|found| *found == ExemptionFound::Nothing) {
            return;
        }
        let values = [0, 1].map(|end| found[end].shown(&self.sides[end]));
        let names = self.names();
        let verdict = match &found {
            [ExemptionFound::Translated(..), _] | [_, ExemptionFound::Translated(..)] => Assessment::fatal(
                "Packets for the tunnel are translated before the selectors see them: they leave in clear with another address.",
                "Put the exemption before the rule that translates.",
            ),
            [ExemptionFound::Exempt, ExemptionFound::Exempt] => Assessment::equal(),
            [one, other] if one == other => Assessment::equal(),
            _ => {
                let lacking = names[usize::from(found[0] != ExemptionFound::Nothing)];
                Assessment::compatible(format!(
                    "If {lacking} translates what leaves for the internet, connections from behind it leave with the gateway's address and fit no selector."
                ))
            }
        };
        self.add(Parameter::Exemption, values, verdict);
    }

    /// Whether what makes and carries the SAs gets in, at each end that has a filter.
    fn entrance(&mut self) {
        let found = self.sides.map(|side| entering(&side));
        if found.iter().all(Option::is_none) {
            return;
        }
        let values = [0, 1].map(|end| match &found[end] {
            None => plain("no rules seen"),
            Some(Entering { lacking, place }) if lacking.is_empty() => self.sides[end].placed("IKE and ESP".to_owned(), place.as_ref()),
            Some(Entering { lacking, place }) => self.sides[end].placed(format!("not {}", listed(lacking)), place.as_ref()),
        });
        let lacks = |end: usize, what: Carrier| found[end].as_ref().is_some_and(|found| found.lacking.contains(&what));
        let wrapped = self.sides.iter().any(|side| {
            side.connection.encapsulation.value == Encapsulation::Forced || side.connection.local.value.address().is_some_and(is_private)
        });
        let names = self.names();
        let first = |what: Carrier| (0..2).find(|end| lacks(*end, what)).map(|end| names[end]);
        let carrier = Carrier::of_packets(wrapped);
        let verdict = if let Some(name) = first(Carrier::Ike) {
            Assessment::fatal(format!("No answer of {name}: IKE does not get in."), "Let UDP 500 in from the peer.")
        } else if let Some(name) = first(carrier) {
            Assessment::fatal(
                format!("SAs come up; what arrives at {name} is dropped before it is decrypted."),
                format!("Let {carrier} in from the peer."),
            )
        } else if let Some(name) = first(Carrier::of_packets(!wrapped)) {
            Assessment::compatible(format!("Nothing reaches {name} once there is a NAT device between the two, or none any more."))
        } else {
            Assessment::unless(self.crossed || values[0].value == values[1].value, || Assessment::compatible("Something else gets in."))
        };
        self.add(Parameter::Entrance, values, verdict);
    }

    /// Both directions, at each end that has a filter for the tunnel.
    fn filter(&mut self) {
        for (direction, leaving) in [(Parameter::OutboundFilter, true), (Parameter::InboundFilter, false)] {
            let found = self.sides.map(|side| passes(&side, leaving));
            if found.iter().all(Option::is_none) {
                continue;
            }
            let values = [0, 1].map(|end| match &found[end] {
                None => plain("no rules seen"),
                Some(Ok(what)) => plain(what.clone()),
                Some(Err((lacking, place))) => self.sides[end].placed(format!("does not pass: {lacking}"), place.as_ref()),
            });
            let blocked = (0..2).find(|end| matches!(found[*end], Some(Err(_))));
            let verdict = match blocked {
                Some(end) => {
                    let name = self.names()[end];
                    let practice = match leaving {
                        true => format!("SAs come up; what is sent from behind {name} is dropped there, and nothing is counted out."),
                        false => format!("SAs come up; what arrives at {name} is decrypted and dropped: out works, in does not."),
                    };
                    Assessment::fatal(practice, "Allow each pair of networks in both directions.")
                }
                None if self.crossed => Assessment::equal(),
                None => Assessment::unless(found[0] == found[1], || Assessment::compatible("Something else passes.")),
            };
            self.add(direction, values, verdict);
        }
    }
}

impl ComparedEnd<'_> {
    /// Packets between a network behind it and one behind the peer, that leave for the tunnel or came out of it.
    fn met(&self, hook: Hook, local: IpNet, remote: IpNet, leaving: bool) -> PacketAt<'_> {
        let gateway = self.reading.gateway;
        let tunnel = match self.steers() {
            true => self.interface().map_or(PassedInterface::Unknown, PassedInterface::Named),
            false => gateway.outside(),
        };
        let host = if hook == Hook::Forward || hook == Hook::Departure { gateway.towards(local.addr()) } else { PassedInterface::None };
        let ((from, to), (into, out_of)) = match leaving {
            true => ((local, remote), (tunnel, host)),
            false => ((remote, local), (host, tunnel)),
        };
        let by_selectors = !self.steers();
        PacketAt {
            hook,
            from,
            to,
            traffic: &Traffic::Any,
            into,
            out_of,
            leaving: leaving && by_selectors,
            arrived: !leaving && by_selectors,
        }
    }

    fn interface(&self) -> Option<&str> {
        let mut interfaces = self.reading.gateway.interfaces.iter();
        interfaces.find(|interface| self.connection.uses(&interface.kind)).map(|interface| interface.name.as_str())
    }

    /// Whether routes bring packets to the tunnel.
    fn steers(&self) -> bool {
        self.connection.interface.value.is_some() || self.reading.gateway.wraps()
    }
}

/// What becomes of a source on its way into the tunnel.
#[derive(Clone, Debug, PartialEq, Eq)]
enum ExemptionFound {
    Nothing,
    Exempt,
    Translated(IpNet, String, Option<Place>),
}

impl ExemptionFound {
    fn shown(&self, side: &ComparedEnd<'_>) -> Shown {
        match self {
            ExemptionFound::Nothing => plain("none seen"),
            ExemptionFound::Exempt => plain("exempt"),
            ExemptionFound::Translated(net, to, place) => side.placed(format!("{net} becomes {to}"), place.as_ref()),
        }
    }
}

/// The first rule that meets traffic of a pair decides.
fn translation(side: &ComparedEnd<'_>) -> ExemptionFound {
    let gateway = side.reading.gateway;
    let mut exempt = false;
    for (local, remote) in pairs(side) {
        let inner = gateway.inner(local, remote);
        let (becomes, place) = match gateway.translation(&side.met(Hook::Departure, inner, remote, true)) {
            None => continue,
            Some(Translation::Own(rule)) => match rule.target {
                // As which it appears in the selectors.
                NatTarget::SourceTo(address) if IpNet::from(address) != local => (Some(address.to_string()), &rule.place),
                _ => (None, &rule.place),
            },
            Some(Translation::Other(rule)) => match &rule.action {
                Action::Masquerade => (Some("the gateway's own address".to_owned()), &rule.place),
                Action::Translate(NatTarget::SourceTo(address)) => (Some(address.to_string()), &rule.place),
                Action::Translate(NatTarget::SourceNet(net)) if *net != inner => (Some(net.to_string()), &rule.place),
                _ => (None, &rule.place),
            },
        };
        match becomes {
            Some(to) => return ExemptionFound::Translated(inner, to, place.0.clone()),
            None => exempt = true,
        }
    }
    if exempt { ExemptionFound::Exempt } else { ExemptionFound::Nothing }
}

fn pairs(side: &ComparedEnd<'_>) -> Vec<(IpNet, IpNet)> {
    let children = side.connection.children.iter();
    let own: Vec<_> =
        children.flat_map(|child| child.local.value.iter().flat_map(|l| child.remote.value.iter().map(|r| (*l, *r)))).collect();
    let any = own.iter().all(|(local, remote)| local.prefix_len() == 0 && remote.prefix_len() == 0);
    if any || side.reading.gateway.wraps() { side.reading.gateway.crossing().into_iter().collect() } else { own }
}

/// `UDP 500, ESP`.
fn listed(carriers: &[Carrier]) -> String {
    carriers.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")
}

/// What does not get in of that which makes and carries the SAs, and where that is said of the first.
struct Entering {
    lacking: Vec<Carrier>,
    place: Option<Place>,
}

/// Nothing where there is no filter.
fn entering(side: &ComparedEnd<'_>) -> Option<Entering> {
    let gateway = side.reading.gateway;
    let connection = side.connection;
    let ipv4 = connection.outer_ipv4();
    let mut found = Entering { lacking: Vec::new(), place: None };
    for carrier in connection.keying.carriers() {
        let (from, to) = (connection.remote.value.range(ipv4), connection.local.value.range(ipv4));
        let judged = gateway.admits(from, to, &carrier.traffic());
        if judged.own.is_none() && judged.others.is_none() {
            return None;
        }
        if let Some(by) = judged.stopped() {
            found.lacking.push(*carrier);
            found.place = found.place.or(by.cloned());
        }
    }
    Some(found)
}

/// What passes of every pair in a direction; or the first pair of which nothing does, and where that is said.
fn passes(side: &ComparedEnd<'_>, leaving: bool) -> Option<Result<String, (String, Option<Place>)>> {
    let gateway = side.reading.gateway;
    let hook = gateway.hooks()[usize::from(!leaving)];
    let mut words: Vec<String> = Vec::new();
    for (local, remote) in pairs(side) {
        let met = side.met(hook, gateway.inner(local, remote), remote, leaving);
        let judged = gateway.judged(&met);
        let none = |place: Option<&Place>| Some(Err((format!("{} to {}", met.from, met.to), place.cloned())));
        let jumped = judged.own.is_some() || gateway.ruleset.leads_to_own(hook, met.from.addr().is_ipv4());
        let passing = if jumped { gateway.passing(local, remote, leaving) } else { BTreeSet::new() };
        match &judged.others {
            Some(ruling) if !ruling.may_pass() => return none(ruling.decider.and_then(Decider::place)),
            // Chains of the administrator's let it pass without asking the tunnel's.
            Some(_) if passing.is_empty() => words.push("as the administrator's rules have it".to_owned()),
            _ if gateway.filter.is_none() => return None,
            _ if passing.is_empty() => return none(None),
            _ => words.push(passing.iter().map(ToString::to_string).collect::<Vec<_>>().join(", ")),
        }
    }
    let mut told: Vec<String> = Vec::new();
    for word in words {
        if !told.contains(&word) {
            told.push(word);
        }
    }
    Some(Ok(told.join("; ")))
}
