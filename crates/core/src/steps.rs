//! What to look at after installing, gateway by gateway, in order; and what it means when something else is seen.

use crate::build::BuiltTunnel;
use uspan_description::description::{Description, Site, Tunnel};
use uspan_model::gateway::{Encapsulation, Opening};

/// Something to look at.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Look {
    /// What it shows.
    pub what: String,
    /// The command, on the gateway as root.
    pub command: String,
    /// What is seen when all is well.
    pub good: String,
}

/// Something that is seen, what it means, and what to change.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Symptom {
    /// What is seen.
    pub sees: String,
    /// What it means.
    pub means: String,
    /// What to change, or where to look.
    pub change: String,
}

/// The steps for a tunnel.
#[derive(Clone, Debug)]
pub struct Steps {
    /// The tunnel.
    pub tunnel: String,
    /// The two sites.
    pub ends: [String; 2],
    /// For each gateway, in order.
    pub looks: [Vec<Look>; 2],
    /// When something else is seen.
    pub symptoms: Vec<Symptom>,
}

/// The steps for a tunnel that was built.
pub fn steps(description: &Description, built: &BuiltTunnel) -> Option<Steps> {
    let tunnel = description.tunnels.iter().find(|tunnel| tunnel.name.value == built.name)?;
    let ends = description.ends(tunnel);
    let looks = [0, 1].map(|end| looks(ends, tunnel, built, end));
    Some(Steps { tunnel: built.name.clone(), ends: built.ends.clone(), looks, symptoms: symptoms(ends, built) })
}

fn looks(ends: [&Site; 2], tunnel: &Tunnel, built: &BuiltTunnel, end: usize) -> Vec<Look> {
    let (site, peer) = (ends[end], ends[1 - end]);
    if site.platform.value.is_run_by_others() {
        return Vec::new();
    }
    let stem = tunnel.name.value.as_str();
    let mut looks = Vec::new();
    let mut look = |what: &str, command: String, good: String| looks.push(Look { what: what.to_owned(), command, good });
    let pairs: Vec<_> = built.gateways[end].crossing().into_iter().collect();
    for (what, command, good) in &*site.platform.value.looks {
        look(what, command.replace("{}", stem), good.to_string());
    }
    let shown: Vec<_> = pairs.iter().take(4).map(|(local, remote)| format!("{local} to {remote}")).collect();
    let more = if pairs.len() > shown.len() { ", and so on" } else { "" };
    let carried = match tunnel.hosts {
        Some(_) => "the two gateways' addresses".to_owned(),
        None => format!("{}{more}", shown.join(", ")),
    };
    look("selectors, as the kernel has them", "ip xfrm policy".to_owned(), format!("`dir out` and `dir in` for {carried}"));
    // A ping from outside of the selectors is the oldest trap.
    match pairs.first().filter(|_| tunnel.hosts.is_none()) {
        Some((local, remote)) => {
            let inner = built.gateways[end].inner(*local, *remote);
            look(
                &format!("a packet through the tunnel: best a ping from a host in {inner} to one in {remote}"),
                "ping -c 3 -I OWN-ADDRESS HOST".to_owned(),
                format!(
                    "answers, from the gateway too, with an OWN-ADDRESS in {inner} and a HOST in {remote}; without -I a ping \
                     leaves with the outside address, and no selector takes it"
                ),
            );
        }
        None => {
            let to = peer.address.value.to_string();
            look("a packet through the tunnel", format!("ping -c 3 {to}"), "answers".to_owned());
        }
    }
    look(
        "what was counted in each direction",
        "ip -s xfrm state".to_owned(),
        format!("two SAs with {}, one in each direction; `bytes` grow in both with each ping", peer.name.value),
    );
    for (what, command, good) in site.packet_filter.look(stem, &built.gateways[end]) {
        look(what, command, good.to_owned());
    }
    if tunnel.logs_drops {
        look("what the filter dropped", format!("journalctl -k -g 'uspan-{stem}: '"), "nothing new".to_owned());
    }
    looks
}

fn symptoms(ends: [&Site; 2], built: &BuiltTunnel) -> Vec<Symptom> {
    let names = ends.map(|site| site.name.value.as_str());
    let at = ends.map(|site| site.address.value.to_string());
    let symptom = |sees: &str, means: String, change: String| Symptom { sees: sees.to_owned(), means, change };
    let in_udp = built.agreement.encapsulation.contains(&Encapsulation::Forced);
    let carrier = if in_udp { "UDP 4500" } else { "ESP (IP protocol 50), or UDP 4500 behind NAT" };
    let [one, other] = names;
    let mut symptoms = vec![
        symptom(
            "no IKE SA, and no answer at all",
            format!("UDP 500 does not get from {} to {}, or its answer back", at[0], at[1]),
            "the filter of both gateways and whatever stands before them; the addresses".to_owned(),
        ),
        symptom(
            "no IKE SA; the log has NO_PROPOSAL_CHOSEN",
            "the proposals for IKE differ: a cipher, a hash or a group was changed at one end".to_owned(),
            format!("uspan compare {one} {other}, with the files as they are on the gateways"),
        ),
        symptom(
            "no IKE SA; the log has AUTHENTICATION_FAILED",
            "an identity, or the secret or key, is not what the other end expects".to_owned(),
            "compare the fingerprints of the sheet; then the identities, each end's own with what the other expects".to_owned(),
        ),
        symptom(
            "an IKE SA and no ESP SA; the log has TS_UNACCEPTABLE",
            "the networks are not each other's mirror image".to_owned(),
            "write the same pairs at both ends, local and remote exchanged".to_owned(),
        ),
        symptom(
            "an IKE SA and no ESP SA; the log has NO_PROPOSAL_CHOSEN",
            "the proposals for ESP, or the group for PFS, differ".to_owned(),
            format!("uspan compare {one} {other}"),
        ),
        symptom(
            "SAs at both ends, and no count grows",
            "packets do not come as far as the selectors: no route, another source after NAT, or a ping from the outside address"
                .to_owned(),
            "the exemption's counter; uspan walk, from the host that sends".to_owned(),
        ),
        symptom(
            "`out` grows at one end, `in` does not at the other",
            format!("{carrier} is dropped on the way"),
            "the filter for the gateway itself at the receiving end; the provider".to_owned(),
        ),
        symptom(
            "`in` grows, and the host gets nothing; out works, in does not",
            "the filter drops what came out of the tunnel, or the host has no way back".to_owned(),
            "the drop counter of the forward rules; the default route of the host".to_owned(),
        ),
        symptom(
            "it works, and stops when the SAs are replaced",
            "PFS or a lifetime differs: it shows only at the first new keys".to_owned(),
            format!("uspan rehearse {one} {other}"),
        ),
        symptom(
            "small packets pass, large ones do not",
            format!("packets of more than {} bytes do not fit, and nobody is told", built.agreement.inner_mtu),
            "let ICMP through; path-mtu in the description".to_owned(),
        ),
    ];
    let several = built.gateways.iter().flat_map(|gateway| &gateway.connections).any(|connection| connection.children.len() > 1);
    if several && built.agreement.opening.contains(&Opening::TRAP) {
        symptoms.push(symptom(
            "one pair has its ESP SAs, another none",
            "nothing was sent for it yet; or its first packet came while the kernel waited for the SAs of another pair: it asks for those \
             of one at a time, for up to 30 s (`net.core.xfrm_acq_expires`)"
                .to_owned(),
            "send again after half a minute".to_owned(),
        ));
    }
    if built.agreement.liveness.is_none() {
        symptoms.push(symptom(
            "one end was restarted, and nothing passes until the SAs end",
            "nobody asks whether the peer is alive".to_owned(),
            "liveness in the description".to_owned(),
        ));
    }
    symptoms
}
