//! The agreement: per tunnel, what both ends will really use, decided once, with the reasons.

mod alternatives;
mod bundle;
mod proposals;

pub use bundle::{Bundle, bundle};

use std::collections::BTreeSet;
use std::time::Duration;

use crate::description::{Beyond, Description, Network, Opens, Pair, Pfs, Site, Tunnel};
use uspan_dialects::profile::{DeadPeer, NatDetection, OpeningWay, ReplayWindow, Sa};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::duration::duration_words;
use uspan_model::finding::{self as rules, Finding};
use uspan_model::gateway::{Dscp, Encapsulation, Endpoint, Exchange, IkeVersion, Lifetime, Mode, OnDeadPeer, Opening, Passing, Proposal};
use uspan_model::mtu::{GRE_HEADER, inner_mtu, ip_header, narrowest_mtu};
use uspan_model::parameter::Parameter;

/// Why a value is what it is, or why it was dropped.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Reason {
    /// The parameter that it is about.
    pub about: Parameter,
    /// Whether the value is used.
    pub taken: bool,
    /// The value.
    pub value: String,
    /// The reason in a few words.
    pub why: String,
}

/// What both ends of a tunnel will use.
#[derive(Clone, Debug)]
pub struct Agreement {
    /// Version and mode of the key exchange.
    pub exchange: Exchange,
    /// IKE proposals in order of preference.
    pub ike: Vec<Proposal>,
    /// ESP proposals in order of preference, with the PFS group.
    pub esp: Vec<Proposal>,
    /// Life of the IKE SA.
    pub ike_lifetime: Lifetime,
    /// Life of the ESP SAs.
    pub esp_lifetime: Lifetime,
    /// Peer-liveness interval.
    pub liveness: Option<Duration>,
    /// When each end opens the tunnel.
    pub opening: [Opening; 2],
    /// What each end does when its peer is dead, where that is checked.
    pub on_dead_peer: [Option<OnDeadPeer>; 2],
    /// Anti-replay window of each end in packets; it concerns the receiver alone.
    pub replay_window: [u32; 2],
    /// What becomes of the DSCP.
    pub dscp: Dscp,
    /// How the pairs of networks travel.
    pub bundle: Bundle,
    /// Whether the two ends agree on any-to-any selectors, because routes steer at both.
    pub any_to_any: bool,
    /// Largest packet inside the tunnel, in bytes.
    pub inner_mtu: u16,
    /// ESP in UDP, for each end: one that cannot be told follows the other.
    pub encapsulation: [Encapsulation; 2],
    /// Every choice and every rejection.
    pub reasons: Vec<Reason>,
}

/// Larger than the defaults of some platforms, so that a few parallel paths do not cost packets.
const REPLAY_WINDOW: u32 = 128;

/// Decides a tunnel. Returns nothing if no proposal is left; the findings say why.
pub fn agree(description: &Description, tunnel: &Tunnel) -> (Option<Agreement>, Vec<Finding>) {
    let mut talk = proposals::Negotiator::new(description, tunnel);
    let ike = talk.ike();
    let pfs = pfs_group(tunnel, &ike);
    talk.bound_group(pfs, &ike);
    let esp = talk.esp(pfs);
    talk.warn_of_nat(&esp);
    let (mut reasons, findings) = talk.finish();
    if ike.is_empty() || esp.is_empty() {
        return (None, findings);
    }
    reasons.push(pfs_reason(pfs, tunnel));
    let (ike_lifetime, esp_lifetime) = lifetimes(tunnel, &mut reasons);
    let bundle = bundle(description, tunnel);
    let (opening, on_dead_peer) = roles(description, tunnel, &bundle, &mut reasons);
    if tunnel.pairs.len() > 1 && bundle == Bundle::One && tunnel.gre.is_none() {
        let why = match tunnel.esp_sas {
            Some(_) => "as the description says",
            None => "one of the platforms has a single Child SA for each peer",
        };
        let why = why.to_owned();
        reasons.push(Reason { about: Parameter::Selectors, taken: true, value: "all pairs in one Child SA".to_owned(), why });
    }
    let encapsulation = encapsulation(description, tunnel, &mut reasons);
    let any_to_any = style(description, tunnel, &mut reasons);
    let inner_mtu = inner(description, tunnel, &esp, encapsulation, &mut reasons);
    if let Some(finding) = too_small_for_ipv6(description, tunnel, inner_mtu) {
        return (None, findings.into_iter().chain([finding]).collect());
    }
    let agreement = Agreement {
        any_to_any,
        inner_mtu,
        exchange: Exchange::of(tunnel.version.value, tunnel.aggressive.is_some()),
        ike,
        esp,
        ike_lifetime,
        esp_lifetime,
        liveness: tunnel.liveness,
        opening,
        on_dead_peer,
        replay_window: description.ends(tunnel).map(|site| match site.platform.value.replay_window {
            ReplayWindow::Settable => tunnel.replay_window.as_ref().map_or(REPLAY_WINDOW, |window| window.value),
            ReplayWindow::Fixed(packets) => packets,
        }),
        dscp: tunnel.dscp.value,
        bundle,
        encapsulation,
        reasons,
    };
    (Some(agreement), findings)
}

/// What each end is told of ESP in UDP. One that cannot be told detects what the other pretends.
fn encapsulation(description: &Description, tunnel: &Tunnel, reasons: &mut Vec<Reason>) -> [Encapsulation; 2] {
    let ends = description.ends(tunnel);
    let mut wanted = tunnel.encapsulation.value;
    let mut say = |value: &str, why: String| {
        reasons.push(Reason { about: Parameter::Encapsulation, taken: true, value: value.to_owned(), why });
    };
    let blind = ends.iter().find(|site| blind(site));
    if let (Encapsulation::Automatic, Some(site)) = (wanted, blind) {
        wanted = Encapsulation::Forced;
        say("ESP in UDP", format!("{} does not know its own address, and takes the path for one with a NAT device", site.name.value));
    }
    ends.map(|site| {
        let can = site.platform.value.encapsulations.contains(&wanted);
        if can { wanted } else { Encapsulation::Automatic }
    })
}

/// Whether routes steer at both ends; one whose selectors steer needs the exact pairs at the other too.
fn style(description: &Description, tunnel: &Tunnel, reasons: &mut Vec<Reason>) -> bool {
    let ends = description.ends(tunnel);
    if tunnel.hosts.is_some() {
        let why = format!("the gateways' own traffic, in {}", tunnel.esp_mode().words());
        reasons.push(Reason { about: Parameter::Selectors, taken: true, value: "the gateways' addresses".to_owned(), why });
        return false;
    }
    if tunnel.gre.is_some() {
        let why = "GRE between the gateways, in transport mode; routes steer what goes into it".to_owned();
        reasons.push(Reason { about: Parameter::Selectors, taken: true, value: "the gateways' addresses, protocol 47".to_owned(), why });
        return false;
    }
    let why = match ends.map(|site| site.route_based.value) {
        [false, false] => return false,
        [true, true] => "routes steer at both ends".to_owned(),
        [first, _] => format!("the selectors steer at {}", ends[usize::from(first)].name.value),
    };
    let any = description.is_any_to_any(tunnel);
    let why = match description.crowded_end(tunnel) {
        Some(end) => {
            format!("{} has one connection alone with the same selectors, and several tunnels with interfaces", ends[end].name.value)
        }
        None => why,
    };
    let value = if any { "any to any" } else { "the exact pairs" };
    reasons.push(Reason { about: Parameter::Selectors, taken: true, value: value.to_owned(), why });
    any
}

/// The largest packet that fits into ESP, whatever of the proposals is chosen.
fn inner(description: &Description, tunnel: &Tunnel, esp: &[Proposal], told: [Encapsulation; 2], reasons: &mut Vec<Reason>) -> u16 {
    let ends = description.ends(tunnel);
    let ipv4 = ends.iter().find_map(|site| site.outer_ipv4()).unwrap_or(true);
    // Whoever has no fixed address may stand behind a NAT device.
    let hidden = ends.iter().any(|site| site.own_address.is_some() || site.local() == Endpoint::Anywhere);
    let in_udp = tunnel.encapsulation.value != Encapsulation::Off && (hidden || told.contains(&Encapsulation::Forced));
    let into_others = |network: &Network| matches!(network.beyond, Some(Beyond::Group(_)));
    let beyond = tunnel.pairs.iter().flat_map(|pair| pair.networks(ends)).any(into_others);
    let fits = match beyond {
        // Nobody is told by a hub that the other tunnel is narrower: what it would say comes from an address that does not cross.
        true => narrowest_mtu(tunnel.path_mtu.value, ipv4),
        false => inner_mtu(tunnel.path_mtu.value, ipv4, in_udp, esp),
    };
    let mtu = match (tunnel.hosts, tunnel.gre) {
        (Some(_), _) if tunnel.esp_mode() == Mode::Transport => fits + ip_header(ipv4),
        (Some(_), _) => fits,
        (None, Some(_)) if tunnel.esp_mode() == Mode::Tunnel => fits - ip_header(ipv4) - GRE_HEADER,
        (None, Some(_)) => fits - GRE_HEADER,
        (None, None) => fits,
    };
    if ends.iter().any(|site| tunnel.routes_at(site)) {
        let family = if ipv4 { "IPv4" } else { "IPv6" };
        let (udp, gre) = (if in_udp { "UDP and " } else { "" }, if tunnel.gre.is_some() { " and GRE" } else { "" });
        let why = match beyond {
            true => format!("a path of {} bytes, less the most that ESP takes in any tunnel of the group", tunnel.path_mtu.value),
            false => format!("a path of {} bytes, less {family}, {udp}ESP{gre}", tunnel.path_mtu.value),
        };
        reasons.push(Reason { about: Parameter::Mtu, taken: true, value: format!("{mtu} bytes inside"), why });
    }
    mtu
}

/// The least that every link of IPv6 takes, in bytes (RFC 8200 section 5).
const LEAST_OF_IPV6: u16 = 1280;

/// An interface that is too small for what is routed into it.
fn too_small_for_ipv6(description: &Description, tunnel: &Tunnel, inner_mtu: u16) -> Option<Finding> {
    let ends = description.ends(tunnel);
    let six = |pair: &Pair| ends[0].networks[pair.first].prefix.value.addr().is_ipv6();
    let linked = tunnel.link.as_ref().is_some_and(|link| link.value.addr().is_ipv6());
    let wanted = tunnel.pairs.iter().any(six) || linked;
    let routed = ends.iter().any(|site| tunnel.routes_at(site));
    let message = || format!("{inner_mtu} bytes are left in the tunnel's interface, and IPv6 needs {LEAST_OF_IPV6}");
    (wanted && routed && inner_mtu < LEAST_OF_IPV6)
        .then(|| Finding::new(&rules::TOO_SMALL_FOR_IPV6, message()).at(description.source.place(tunnel.path_mtu.span)))
}

/// A gateway that takes every path for one with a NAT device, because it does not know its own address.
pub fn blind(site: &Site) -> bool {
    site.local() == Endpoint::Anywhere && site.platform.value.nat_detection == NatDetection::NeedsOwnAddress
}

fn pfs_group(tunnel: &Tunnel, ike: &[Proposal]) -> Option<Transform> {
    match tunnel.pfs.value {
        Pfs::Off => None,
        Pfs::With(group) => Some(group),
        Pfs::AsIke => ike.first().and_then(|proposal| proposal.first(Kind::KeyExchange)),
    }
}

fn pfs_reason(group: Option<Transform>, tunnel: &Tunnel) -> Reason {
    let value = group.map_or("off".to_owned(), |group| group.to_string());
    let why = match tunnel.pfs.value {
        Pfs::Off => "switched off in the description",
        Pfs::With(_) => "named in the description",
        Pfs::AsIke => "the group of the first IKE proposal",
    };
    Reason { about: Parameter::Pfs, taken: true, value, why: why.to_owned() }
}

/// Both SAs have the same margin, because some platforms know only one for both.
fn lifetimes(tunnel: &Tunnel, reasons: &mut Vec<Reason>) -> (Lifetime, Lifetime) {
    let (ike, esp) = (tunnel.ike_lifetime.value, tunnel.esp_lifetime.value);
    let margin = Duration::from_secs((ike.min(esp).as_secs() / 10).max(10));
    reasons.push(Reason {
        about: Parameter::IkeLifetime,
        taken: true,
        value: format!("IKE {}, ESP {}", duration_words(ike), duration_words(esp)),
        why: format!(
            "replaced {} to {} before the end, at random; {}",
            duration_words(margin),
            duration_words(margin * 2),
            match tunnel.version.value {
                IkeVersion::V1 => "IKEv1 negotiates it, and both ends ask for the same",
                IkeVersion::V2 => "IKEv2 does not negotiate it",
            }
        ),
    });
    (Lifetime { hard: ike, margin }, Lifetime { hard: esp, margin })
}

fn roles(
    description: &Description,
    tunnel: &Tunnel,
    bundle: &Bundle,
    reasons: &mut Vec<Reason>,
) -> ([Opening; 2], [Option<OnDeadPeer>; 2]) {
    let opens = [0, 1].map(|end| tunnel.opens_at(end));
    let when = tunnel.opens.value.words();
    let who = match tunnel.initiator {
        Some(end) => description.ends(tunnel)[end].name.value.clone(),
        None => "either end".to_owned(),
    };
    let why = match (tunnel.initiator, tunnel.opens.value) {
        (None, Opens::AtOnce) => format!("{} waits for traffic, so that the two do not collide", description.ends(tunnel)[1].name.value),
        (Some(_), Opens::AtOnce | Opens::OnTraffic) => "the other end answers".to_owned(),
        _ => "as the description says".to_owned(),
    };
    reasons.push(Reason { about: Parameter::Opening, taken: true, value: format!("opened by {who}, {when}"), why });
    let several = tunnel.pairs.len() > 1 && *bundle != Bundle::One;
    // Where hosts may open no connection nobody asks, and the next packet would never come.
    let asked = |end: usize| tunnel.passes[end] != Passing::Only(Vec::new());
    let lingers =
        [0, 1].map(|end| several && asked(end) && description.ends(tunnel)[end].platform.value.dead_peer == DeadPeer::KeptWhileAsked);
    for end in [0, 1].into_iter().filter(|end| lingers[*end] && opens[*end] == Opens::AtOnce && tunnel.liveness.is_some()) {
        let name = &description.ends(tunnel)[end].name.value;
        let why = format!("{name} would reopen several pairs over the dead IKE SA, and keep it while packets ask for them");
        reasons.push(Reason {
            about: Parameter::Liveness,
            taken: true,
            value: "a dead peer is reopened with the next packet".to_owned(),
            why,
        });
    }
    let dead = [0, 1].map(|end| {
        tunnel.liveness.map(|_| match opens[end] {
            Opens::AtOnce if lingers[end] => OnDeadPeer::AwaitTraffic,
            Opens::AtOnce => OnDeadPeer::Reopen,
            Opens::OnTraffic => OnDeadPeer::AwaitTraffic,
            Opens::ByHand => OnDeadPeer::Forget,
        })
    });
    let opening = [0, 1].map(|end| match opens[end] {
        Opens::AtOnce => Opening { start: true, trap: description.ends(tunnel)[end].platform.value.opens(OpeningWay::TrapBesideStart) },
        Opens::OnTraffic => Opening::TRAP,
        Opens::ByHand => Opening::WAIT,
    });
    (opening, dead)
}

/// Findings about an old version of the key exchange: it is told at every build.
pub fn old_version(description: &Description, tunnel: &Tunnel) -> Vec<Finding> {
    let mut findings = Vec::new();
    let v1 = tunnel.version.value == IkeVersion::V1;
    if v1 {
        let place = description.source.place(tunnel.version.span);
        findings.push(Finding::new(&rules::IKEV1_IN_USE, format!("`{}` is negotiated with IKEv1", tunnel.name.value)).at(place));
    }
    if let Some(reason) = &tunnel.aggressive {
        let place = description.source.place(reason.span);
        findings.push(
            match v1 {
                true => Finding::new(
                    &rules::AGGRESSIVE_IN_USE,
                    format!("aggressive mode with a shared secret; allowed because: {}", reason.value),
                ),
                false => Finding::new(&rules::AGGRESSIVE_WITHOUT_IKEV1, "IKEv2 has no aggressive mode".to_owned()),
            }
            .at(place),
        );
    }
    findings
}

/// Findings about algorithms that are weak, allowed or not, in what a tunnel offers.
pub fn weak_algorithms(description: &Description, tunnel: &Tunnel) -> Vec<Finding> {
    let mut findings = Vec::new();
    let mut used = vec![false; tunnel.allows_weak.len()];
    let mut refused = BTreeSet::new();
    let place = |span| description.source.place(span);
    for (row, span, sa) in proposals::offered_rows(tunnel) {
        if row.weak.is_empty() {
            continue;
        }
        if row.iana == "ENCR_NULL" || row.strength == 0 && sa == Sa::Esp {
            findings.push(Finding::new(&rules::NULL_ENCRYPTION, format!("`{}`: {}", row.name, row.weak)).at(place(span)));
            continue;
        }
        let allowed = tunnel.allowance(row);
        // A hash can stand for integrity and PRF at the same place: say it once.
        if allowed.is_none() && !refused.insert((row.name, span)) {
            continue;
        }
        match allowed {
            Some(i) if used[i] => {}
            Some(i) => {
                used[i] = true;
                let reason = &tunnel.allows_weak[i].reason;
                findings.push(
                    Finding::new(&rules::WEAK_IN_USE, format!("`{}` is offered ({}); allowed because: {reason}", row.name, row.weak))
                        .at(place(span)),
                );
            }
            None => findings.push(
                Finding::new(&rules::WEAK_ALGORITHM, format!("`{}` for {}: {}", row.name, sa.word(), row.weak)).at(place(span)).remedy(
                    format!(
                        "Choose a stronger one; if the partner has nothing else, say `allows-weak = {{ \"{}\" = \"why\" }}`.",
                        row.name
                    ),
                ),
            ),
        }
    }
    for (i, allowed) in tunnel.allows_weak.iter().enumerate() {
        // One word can stand for a PRF and an integrity algorithm; one use of the two is enough.
        let twin_used = tunnel.allows_weak.iter().zip(&used).any(|(other, used)| *used && other.span == allowed.span);
        let first = tunnel.allows_weak.iter().position(|other| other.span == allowed.span) == Some(i);
        if !twin_used && first {
            findings.push(
                Finding::new(&rules::NEEDLESS_ALLOWANCE, format!("`{}` needs no allowance here", allowed.row.name)).at(place(allowed.span)),
            );
        }
    }
    findings
}
