//! Tunnels between the same two sites: they share an IKE SA, and what belongs to that must be the same.

use crate::description::{Description, Opens, Tunnel};
use uspan_dialects::profile::{AskedSecondTunnel, SecondTunnelObstacle};
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::Proposal;
use uspan_model::source::{Located, Span};

pub(super) fn check(description: &Description) -> Vec<Finding> {
    let further = description.tunnels.iter().filter_map(|tunnel| {
        let first = description.first_sibling(tunnel);
        (!std::ptr::eq(first, tunnel)).then_some((first, tunnel))
    });
    further.filter_map(|(first, tunnel)| SiblingCheck { description, first, tunnel }.unfit()).collect()
}

/// A tunnel, and the first one between its two sites.
struct SiblingCheck<'a> {
    description: &'a Description,
    first: &'a Tunnel,
    tunnel: &'a Tunnel,
}

impl SiblingCheck<'_> {
    /// What keeps the two from sharing an IKE SA.
    fn unfit(&self) -> Option<Finding> {
        let (first, tunnel) = (self.first, self.tunnel);
        let between = [first, tunnel].map(Tunnel::is_between_gateways);
        let (span, why) = if between == [true, true] {
            (
                tunnel.hosts.or(tunnel.gre).unwrap_or(tunnel.name.span),
                "both carry what the two gateways themselves send each other".to_owned(),
            )
        } else if let Some((key, span)) = self.differing() {
            (span, differs(key))
        } else {
            self.obstacle()?
        };
        let message = format!("`{}` joins the same sites as `{}`: {why}", tunnel.name.value, first.name.value);
        let place = |span| self.description.source.place(span);
        let finding = Finding::new(&rules::TWO_TUNNELS_ONE_PAIR_OF_GATEWAYS, message).at(place(span));
        Some(finding.with(place(first.name.span), "the other one"))
    }

    /// The first key that belongs to the IKE SA and is said otherwise.
    fn differing(&self) -> Option<(&'static str, Span)> {
        let (first, tunnel) = (self.first, self.tunnel);
        let file = |tunnel: &Tunnel| tunnel.secret_file.as_ref().map(|file| file.value.clone());
        let opener = |tunnel: &Tunnel| tunnel.initiator.map(|end| tunnel.between[end].value);
        let by_hand = |tunnel: &Tunnel| tunnel.opens.value == Opens::ByHand;
        let at = |place: &Option<Located<String>>| place.as_ref().map_or(tunnel.name.span, |said| said.span);
        let name = tunnel.name.span;
        let rows = [
            ("authentication", first.method.value == tunnel.method.value, tunnel.method.span),
            ("secret", file(first) == file(tunnel) && first.generation == tunnel.generation, at(&tunnel.secret_file)),
            ("version", first.version.value == tunnel.version.value, tunnel.version.span),
            ("aggressive", first.aggressive.is_some() == tunnel.aggressive.is_some(), at(&tunnel.aggressive)),
            ("ike", same(&first.offer.ike, &tunnel.offer.ike), tunnel.offer.ike.first().map_or(name, |one| one.span)),
            ("ike-lifetime", first.ike_lifetime.value == tunnel.ike_lifetime.value, tunnel.ike_lifetime.span),
            ("liveness", first.liveness == tunnel.liveness, tunnel.liveness_at),
            ("nat-traversal", first.encapsulation.value == tunnel.encapsulation.value, tunnel.encapsulation.span),
            ("initiator", opener(first) == opener(tunnel), tunnel.initiator_at),
            ("opens", by_hand(first) == by_hand(tunnel), tunnel.opens.span),
        ];
        rows.into_iter().find(|(_, same, _)| !same).map(|(key, _, span)| (key, span))
    }

    /// What the platform of one of the ends cannot do, and where that is said.
    fn obstacle(&self) -> Option<(Span, String)> {
        let (first, tunnel) = (self.first, self.tunnel);
        let other_esp = !same(&first.offer.esp, &tunnel.offer.esp) || first.pfs.value != tunnel.pfs.value;
        let hosts = first.hosts.is_some() || tunnel.hosts.is_some();
        tunnel.between.iter().enumerate().find_map(|(end, place)| {
            let site = &self.description.sites[place.value];
            let routed = |tunnel: &Tunnel| tunnel.gre.is_none() && tunnel.routes_at(site);
            let opens = tunnel.opens.value != Opens::ByHand && tunnel.initiator.is_none_or(|opener| opener == end);
            let asked = AskedSecondTunnel { other_esp, interface: routed(first) || routed(tunnel), opens_hosts: hosts && opens };
            let why = match site.platform.value.second_tunnel_obstacle(asked)? {
                SecondTunnelObstacle::EspOfFirst => {
                    return Some((tunnel.offer.esp.first().map_or(tunnel.name.span, |one| one.span), differs("esp")));
                }
                SecondTunnelObstacle::OneForEachPeer => "has one tunnel with each peer",
                SecondTunnelObstacle::OneInterface => "has one interface for all Child SAs of an IKE SA",
                SecondTunnelObstacle::HostsLost => "does not come back with both after its peer was lost, if it opens them",
            };
            Some((tunnel.name.span, format!("{} ({}) {why}", site.name.value, site.platform.value.title)))
        })
    }
}

fn differs(key: &str) -> String {
    format!("the two share an IKE SA, and `{key}` is not the same")
}

/// Whether two tunnels offer the same.
fn same(one: &[Located<Proposal>], other: &[Located<Proposal>]) -> bool {
    one.iter().map(|proposal| &proposal.value).eq(other.iter().map(|proposal| &proposal.value))
}
