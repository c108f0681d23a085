//! Random descriptions that are valid, as text, and what is supplied with them.

#![allow(dead_code, reason = "each test uses some of it")]

use std::collections::BTreeMap;
use std::fmt::Write as _;

use proptest::prelude::*;
use proptest::sample::{select, subsequence};
use uspan_core::algorithm::{Kind, Row, Transform};
use uspan_core::*;

use super::gateways::CERTIFICATES;
use super::known;

/// A site of a random description, before it becomes text.
#[derive(Clone, Debug)]
struct RandomSite {
    platform: usize,
    identity: usize,
    networks: Vec<u8>,
    shares_internet: bool,
    joined: bool,
    packet_filter: usize,
    reach: usize,
    routes: bool,
    note: String,
}

impl RandomSite {
    fn has_free_identity(&self, free: bool) -> bool {
        free && self.identity == 3 && self.reach != 3
    }
}

fn site() -> impl Strategy<Value = RandomSite> {
    let note = "[ -~äß]{0,20}";
    (
        0..known::context().profiles.len(),
        0..5usize,
        subsequence((0..8u8).collect::<Vec<_>>(), 1..4),
        any::<bool>(),
        any::<bool>(),
        0..known::context().filters.len(),
        (0..6usize, any::<bool>()),
        note,
    )
        .prop_map(|(platform, identity, networks, shares_internet, joined, packet_filter, (reach, routes), note)| RandomSite {
            platform,
            identity,
            networks,
            shares_internet,
            joined,
            packet_filter,
            reach,
            routes,
            note,
        })
}

/// Sound algorithms that both platforms can do.
fn common(kind: Kind, sa: Sa, sites: &[RandomSite; 2]) -> Vec<&'static Row> {
    let can = |site: &RandomSite, row: &Row| known::profile(site.platform).can(Transform::of(row), sa);
    kind.rows().iter().filter(|row| row.weak.is_empty() && sites.iter().all(|site| can(site, row))).collect()
}

fn proposals(sites: [RandomSite; 2]) -> impl Strategy<Value = (String, String, String)> {
    let pick = |kind, sa| common(kind, sa, &sites);
    let integrities = pick(Kind::Integrity, Sa::Ike);
    let esp_integrities = pick(Kind::Integrity, Sa::Esp);
    let prfs = pick(Kind::Prf, Sa::Ike);
    let groups = pick(Kind::KeyExchange, Sa::Ike);
    // One value or several, combined-mode ciphers and others in one list too.
    let some = |rows: Vec<&'static Row>, most: usize| subsequence(rows.clone(), 1..=most.min(rows.len()));
    let words = |rows: &[&'static Row]| match rows {
        [one] => format!("\"{}\"", one.name),
        several => format!("[{}]", several.iter().map(|row| format!("\"{}\"", row.name)).collect::<Vec<_>>().join(", ")),
    };
    let combined = |ciphers: &[&'static Row]| ciphers.iter().all(|cipher| cipher.aead);
    let parts = (some(pick(Kind::Encryption, Sa::Ike), 3), some(integrities, 2), some(prfs, 2), some(groups.clone(), 2));
    let ike = parts.prop_map(move |(ciphers, integrities, prfs, groups)| match combined(&ciphers) {
        true => format!("{{ encryption = {}, prf = {}, group = {} }}", words(&ciphers), words(&prfs), words(&groups)),
        false => format!("{{ encryption = {}, integrity = {}, group = {} }}", words(&ciphers), words(&integrities), words(&groups)),
    });
    let esp = (some(pick(Kind::Encryption, Sa::Esp), 3), some(esp_integrities, 2));
    let esp = esp.prop_map(move |(ciphers, integrities)| match combined(&ciphers) {
        true => format!("{{ encryption = {} }}", words(&ciphers)),
        false => format!("{{ encryption = {}, integrity = {} }}", words(&ciphers), words(&integrities)),
    });
    // A platform that rekeys only with the group of the IKE SA leaves no other choice.
    let bound = sites.iter().any(|site| known::profile(site.platform).pfs == PfsChoice::OfIke);
    let named = select(groups).prop_map(move |group| if bound { "true".to_owned() } else { format!("\"{}\"", group.name) });
    let pfs = prop_oneof![Just("true".to_owned()), Just("false".to_owned()), named];
    (prop::collection::vec(ike, 1..4), prop::collection::vec(esp, 1..4), pfs)
        .prop_map(|(ike, esp, pfs)| (ike.join(", "), esp.join(", "), pfs))
}

fn site_text(text: &mut String, name: &str, index: usize, site: &RandomSite, free: bool, certified: bool) {
    let address = format!("{}.{}", ["198.51.100", "203.0.113"][index], 10 + index);
    // Fixed, behind a NAT device, by name, or somewhere else each time.
    let (address, own) = match site.reach {
        1 => (address, format!(", own-address = \"10.200.{index}.2\"")),
        2 => (format!("gate.{name}.example.net"), String::new()),
        3 => ("dynamic".to_owned(), String::new()),
        _ => (address, String::new()),
    };
    let identity = match site.identity {
        4 if certified => format!("identity = {{ subject = \"O=Alder Creek Orchards, CN={name}\" }}\n"),
        // Without a fixed address it takes a name.
        _ if site.reach == 3 => format!("identity = {{ name = \"{name}.example.net\" }}\n"),
        0 => String::new(),
        1 => format!("identity = {{ name = \"{name}.example.net\" }}\n"),
        2 => format!("identity = {{ mail = \"gate+{index}@{name}.example.net\" }}\n"),
        3 if free => format!("identity = {{ free = \"{name}/gate-{index}:x+_.\" }}\n"),
        _ if site.reach == 2 => String::new(),
        _ => format!("identity = {{ address = \"{address}\" }}\n"),
    };
    let networks: Vec<_> = site.networks.iter().map(|n| format!("net-{n} = \"10.{}.{}.0/24\"", 40 + index, n)).collect();
    let filter = if site.joined { "joined" } else { "standalone" };
    let routes = site.routes && known::profile(site.platform).is_steered_by_routes();
    let style = if routes { "route-based" } else { "policy-based" };
    let note = toml_edit::Value::from(format!("x{}", site.note));
    // Named, whether a tunnel uses them or not; without the private one where it is on the gateway.
    let private = if site.joined { format!(", private = \"keys/{name}.key\"") } else { String::new() };
    let certificate = format!("certificate = \"keys/{name}.crt\", issuer = \"keys/ca.crt\"");
    let keys = format!("keys = {{ public = \"keys/{name}.pub\", {certificate}{private} }}\n");
    let _ = write!(
        text,
        "[site.{name}]\nplatform = \"{}\"\ngateway = {{ address = \"{address}\"{own}, outside = \"wan0\", inside = \"lan0\" }}\n\
         networks = {{ {} }}\n{identity}{keys}as-number = {}\nshares-internet = {}\nfilter = \"{filter}\"\npacket-filter = \"{}\"\nstyle = \"{style}\"\nnote = {note}\n",
        known::profile(site.platform).word,
        networks.join(", "),
        65_001 + index,
        site.shares_internet,
        known::context().filters[site.packet_filter].word(),
    );
}

prop_compose! {
    fn timing(plain: bool, opener: Option<usize>)(
        ike in 10u64..1440, share in 1u64..5, opens in 0..3usize, starter in 0..3usize, liveness in prop::option::of(5u64..3600),
    ) -> String {
        let esp = (ike / share).max(5);
        // Where an end cannot open on traffic, one end opens at once.
        let opens = if plain { "at-once" } else { ["at-once", "on-traffic", "by-hand"][opens] };
        let starter = if plain { ["packhouse", "coldstore"][starter % 2] } else { ["packhouse", "coldstore", "either"][starter] };
        let starter = opener.map_or(starter, |end| ["packhouse", "coldstore"][end]);
        let liveness = liveness.map_or("off".to_owned(), |s| format!("{s}s"));
        format!("ike-lifetime = \"{ike}m\"\nesp-lifetime = \"{esp}m\"\nopens = \"{opens}\"\ninitiator = \"{starter}\"\nliveness = \"{liveness}\"\n")
    }
}

/// What is seen inside the tunnel: sizes, addresses of interfaces, networks that appear as others.
fn inside(sites: [&RandomSite; 2]) -> impl Strategy<Value = String> + use<> {
    let routed = sites.map(|site| site.routes && known::profile(site.platform).is_steered_by_routes());
    // What is translated late is seen by one packet filter alone.
    let able = [0, 1].map(|end| routed[end] || known::context().filters[sites[end].packet_filter].sees_translated());
    let networks = sites.map(|site| site.networks.clone());
    let linked = routed == [true, true];
    let facts = sites.map(|site| known::profile(site.platform));
    let mut choices = vec![String::new(), "compression = false\n".to_owned()];
    for (word, dscp) in [("both", Dscp::Both), ("never", Dscp::Never)] {
        choices.extend(facts.iter().all(|facts| facts.dscp.contains(&dscp)).then(|| format!("copies-dscp = \"{word}\"\n")));
    }
    choices.extend(facts.iter().all(|facts| facts.replay_window == ReplayWindow::Settable).then(|| "replay-window = 512\n".to_owned()));
    choices.extend(facts.iter().all(|facts| facts.has_long_sequence_numbers()).then(|| "extended-sequence-numbers = true\n".to_owned()));
    let packets = select(choices);
    (1280u16..=9000, any::<bool>(), any::<[bool; 2]>(), packets).prop_map(move |(mtu, link, appears, sequence)| {
        let mut text = format!("path-mtu = {mtu}\n{sequence}");
        if link && linked {
            text.push_str("link = \"10.255.0.0/31\"\n");
        }
        for (end, name) in ["packhouse", "coldstore"].into_iter().enumerate().filter(|(end, _)| able[*end] && appears[*end]) {
            for n in &networks[end] {
                let _ = writeln!(text, "appears-as.{name}.net-{n} = \"10.{}.{n}.0/24\"", 120 + end);
            }
        }
        text
    })
}

/// What may be opened, from where, and what is logged.
fn passing() -> impl Strategy<Value = String> {
    let list = subsequence(vec!["https", "dns", "ping", "tcp/8443", "udp/5060-5070", "ssh"], 1..4)
        .prop_map(|words| format!("[{}]", words.iter().map(|word| format!("\"{word}\"")).collect::<Vec<_>>().join(", ")));
    let services = prop_oneof![
        Just(String::new()),
        list.clone().prop_map(|list| format!("services = {list}\n")),
        (list.clone(), list).prop_map(|(one, other)| format!("services = {{ coldstore = {one}, packhouse = {other} }}\n")),
        Just("services = { packhouse = [\"all\"], coldstore = [\"ping\"] }\n".to_owned()),
        Just("one-way = \"coldstore\"\nopens = \"at-once\"\n".to_owned()),
        Just("limited-to = { protocol = \"tcp\", ports = { coldstore = 443 } }\nopens = \"at-once\"\n".to_owned()),
        Just("limited-to = { protocol = \"udp\", ports = { packhouse = 5060 } }\nopens = \"at-once\"\n".to_owned()),
        Just("limited-to = { protocol = \"icmp\" }\n".to_owned()),
    ];
    let others = select(vec!["", "not-carried = \"left-alone\"\n"]);
    (services, any::<bool>(), others).prop_map(|(services, logs, others)| format!("{services}logs-drops = {logs}\n{others}"))
}

fn traversal(sites: [&RandomSite; 2]) -> impl Strategy<Value = String> + use<> {
    let can = |wanted| sites.iter().any(|site| known::profile(site.platform).encapsulations.contains(&wanted));
    let mut words = vec!["automatic"];
    words.extend(can(Encapsulation::Forced).then_some("forced"));
    let behind = sites.iter().any(|site| site.reach == 1);
    // Nor where a daemon does not know its own address.
    let blind = sites.iter().any(|site| site.reach > 1 && known::profile(site.platform).nat_detection == NatDetection::NeedsOwnAddress);
    words.extend((can(Encapsulation::Off) && !behind && !blind).then_some("off"));
    select(words).prop_map(|word| format!("nat-traversal = \"{word}\"\n"))
}

// Long: a strategy for each key.
pub fn description() -> impl Strategy<Value = String> {
    (site(), site()).prop_flat_map(|(one, mut other)| {
        if one.reach == 3 && other.reach == 3 {
            other.reach = 0;
        }
        // Whoever cannot be found opens.
        let opener = [&one, &other].into_iter().position(|site| site.reach == 3);
        let pairs: Vec<_> = one.networks.iter().flat_map(|a| other.networks.iter().map(move |b| (*a, *b))).collect();
        let can = [&one, &other].map(|site| known::profile(site.platform));
        // With one Child SA for each peer, and one pair in each Child SA at the other end, one pair is carried; and
        // with lists of selectors, all of them.
        let single = can.iter().any(|facts| !facts.selectors.contains(&SeveralPairs::AnSaEach));
        let listless = can.iter().any(|facts| !facts.selectors.contains(&SeveralPairs::InOneSa));
        let several = if single && listless { 1 } else { pairs.len() };
        let carried = prop::option::of(subsequence(pairs.clone(), 1..=several));
        let carried = carried.prop_map(move |chosen| match chosen {
            None if single && listless => Some(vec![pairs[0]]),
            Some(chosen) if single && chosen.len() > 1 => None,
            chosen => chosen,
        });
        let plain = can.iter().any(|facts| !facts.opens(OpeningWay::OnTraffic));
        let free = can.iter().all(|facts| facts.identities.free);
        let strength = prop::option::of(select(vec!["strong", "brisk", "common"]));
        let sites = [one.clone(), other.clone()];
        (
            Just(one),
            Just(other),
            proposals(sites.clone()),
            strength,
            carried,
            (timing(plain, opener), passing()),
            (traversal([&sites[0], &sites[1]]), inside([&sites[0], &sites[1]])),
            any::<[bool; 2]>(),
        )
            .prop_map(move |(one, other, offer, strength, carried, (timing, passing), (traversal, inside), [turned, old])| {
                // Words that are said for one-way traffic come first.
                let timing = timing.lines().filter(|line| !(passing.contains("opens =") && line.starts_with("opens =")));
                let timing: String = timing.map(|line| format!("{line}\n")).collect();
                // Whose hosts open nothing does not open the tunnel on traffic either.
                let silent = ["one-way", "limited-to"].iter().any(|key| passing.contains(key));
                let timing = if silent { timing.replace("\"either\"", "\"coldstore\"") } else { timing };
                // IKEv1 where both speak it, between fixed addresses; one pair, which all of them can carry.
                let alone = carried.as_ref().map_or(one.networks.len() * other.networks.len(), Vec::len) == 1;
                let old = old && alone && opener.is_none() && can.iter().all(|facts| facts.versions.contains(&IkeVersion::V1));
                let long = can.iter().all(|facts| facts.behaviour.long_numbers_v1 == LongNumbersV1::AsSaid);
                let inside = if old && !long { inside.replace("extended-sequence-numbers = true\n", "") } else { inside };
                let knows = |method| !old && can.iter().all(|facts| facts.methods.contains(&method));
                // No certificate names what has no form.
                let formed = !one.has_free_identity(free) && !other.has_free_identity(free);
                let proof = match turned {
                    true if knows(Method::PublicKey) && one.joined => "authentication = \"public-keys\"",
                    true if knows(Method::Certificate) && formed => "authentication = \"certificates\"",
                    _ => "secret = { file = \"k\" }",
                };
                // Behind a NAT device somebody keeps its mapping; and with the keys of CCM not all have ESP in UDP.
                let behind = [&one, &other].iter().any(|site| site.reach == 1);
                let forgets = [&one, &other]
                    .iter()
                    .any(|site| site.reach == 1 && !known::profile(site.platform).behaviour.keeps_nat_mapping.contains(&IkeVersion::V2));
                let kept = |line: &str| if line.starts_with("liveness") { "liveness = \"30s\"\n".to_owned() } else { format!("{line}\n") };
                let timing = if forgets { timing.lines().map(kept).collect() } else { timing };
                let in_udp = behind || traversal.contains("forced");
                let odd = in_udp && can.iter().any(|facts| facts.behaviour.odd_key == OddKey::NotInUdp);
                let odd = odd && offer.1.contains("-ccm");
                let esp = if odd { "{ encryption = \"aes-256-gcm\" }".to_owned() } else { offer.1.clone() };
                let mut text = "unified-span = 1\n".to_owned();
                let certified = proof.contains("certificates");
                site_text(&mut text, "packhouse", 0, &one, free, certified);
                site_text(&mut text, "coldstore", 1, &other, free, certified);
                // GRE between fixed addresses that nobody translates.
                let fixed = [&one, &other].iter().all(|site| matches!(site.reach, 0 | 4 | 5));
                let limited = passing.contains("limited-to");
                let gre = !limited && fixed && one.note.len() % 3 == 0 && !traversal.contains("forced");
                // A session between the interfaces, where both ends have one with an address.
                let routed = [&one, &other].iter().all(|site| gre || site.routes && known::profile(site.platform).is_steered_by_routes());
                let bgp = !limited && routed && other.note.len() % 2 == 0 && !inside.contains("appears-as");
                let link = if inside.contains("link =") { "" } else { "link = \"10.254.0.0/30\"\n" };
                let inside = if bgp { format!("{inside}{link}routing = \"bgp\"\n") } else { inside };
                let inside = if gre { format!("{inside}carrier = \"gre\"\n") } else { inside };
                // Or what the gateways themselves send, where nothing is said of networks.
                let hosts = fixed && !limited && !gre && !bgp && one.note.len() % 3 == 1 && !traversal.contains("forced");
                let hosts = hosts && !inside.contains("appears-as") && !inside.contains("link =");
                // All of a network behind one address, where nothing else is said of who opens connections.
                let unsaid = !passing.contains("limited-to") && !passing.contains("services") && !passing.contains("one-way");
                let hidden = unsaid && !bgp && one.note.len() % 2 == 1 && !timing.contains("on-traffic") && !timing.contains("either");
                let inside = match inside.split_once("appears-as.packhouse.net-").filter(|_| hidden) {
                    Some((before, rest)) => format!("{before}appears-as.packhouse.net-{}", rest.replacen(".0/24", ".7/32", 1)),
                    None => inside,
                };
                let between = if turned { "\"coldstore\", \"packhouse\"" } else { "\"packhouse\", \"coldstore\"" };
                let _ = write!(text, "[tunnel.harvest]\nbetween = [{between}]\n{proof}\n{timing}{passing}{traversal}{inside}");
                match strength {
                    _ if old => text.push_str("version = \"ikev1\"\nstrength = \"common\"\n"),
                    Some(strength) => drop(writeln!(text, "strength = \"{strength}\"")),
                    None => drop(write!(text, "ike = [{}]\nesp = [{}]\npfs = {}\n", offer.0, esp, offer.2)),
                }
                if hosts {
                    text.push_str("carries = \"gateways\"\n");
                    text.push_str(["", "mode = \"tunnel\"\n", "mode = \"transport\"\n"][other.note.len() % 3]);
                } else if routed && !limited && !bgp && !inside.contains("appears-as") && one.note.len() % 4 == 0 {
                    // All that one of the two sends goes through the other.
                    let through_first = other.note.len() % 2 == 0;
                    let list: Vec<_> = if through_first { &other.networks } else { &one.networks }
                        .iter()
                        .take(if old { 1 } else { usize::MAX })
                        .map(|net| {
                            let named = [format!("\"net-{net}\""), "\"everything\"".to_owned()];
                            if through_first == turned {
                                format!("[{}, {}]", named[0], named[1])
                            } else {
                                format!("[{}, {}]", named[1], named[0])
                            }
                        })
                        .collect();
                    let _ = writeln!(text, "carries = [{}]", list.join(", "));
                } else if let Some(pairs) = carried {
                    let entries = pairs.iter().map(|(a, b)| if turned { (b, a) } else { (a, b) });
                    let list: Vec<_> = entries.map(|(first, second)| format!("[\"net-{first}\", \"net-{second}\"]")).collect();
                    let _ = writeln!(text, "carries = [{}]", list.join(", "));
                }
                text
            })
    })
}

pub fn supplied(secret: Vec<u8>) -> Supplied {
    let file = SecretFile::Read { secret: Secret::new(secret), guesses_log10: 40.0, drawn: true, exposed: false };
    let [ca, certificates @ ..] = &*CERTIFICATES;
    let key = |(site, certificate): (&str, &Certificate)| {
        let public = certificate.public();
        let private =
            KeyFile::Private { pem: Secret::new(format!("pem of {site}\n").into_bytes()), public: public.clone(), exposed: false };
        [
            (format!("keys/{site}.pub"), KeyFile::Public(public)),
            (format!("keys/{site}.crt"), KeyFile::Certificate(certificate.clone())),
            (format!("keys/{site}.key"), private),
        ]
    };
    let keys = ["packhouse", "coldstore"].into_iter().zip(certificates).flat_map(key);
    Supplied {
        secrets: BTreeMap::from([("k".to_owned(), file)]),
        keys: keys.chain([("keys/ca.crt".to_owned(), KeyFile::Certificate(ca.clone()))]).collect(),
        ..Supplied::default()
    }
}
