//! Two gateways as their files say become one description.
//!
//! Nothing is papered over: where the two ends disagree, one value is taken and the other one is told; what the files do not
//! show is told too.

use std::collections::BTreeMap;
use std::collections::HashMap;
use std::fmt::Write as _;
use std::time::Duration;

use ipnet::IpNet;

use crate::algorithm::{Kind, PRESETS, Transform};
use crate::compare::{ComparedParameter, Gravity, ReadGateway, Shown, compare_ends};
use crate::description::is_name;
use crate::duration::duration_words;
use crate::fits::proposals::common;
use crate::gateway::{
    Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, Gateway, Identity, IkeVersion, Method, NatTarget, Opening, OwnAddress,
    Passing, Proposal,
};
use crate::packet_filter::{PACKET_FILTERS, PacketFilter};
use crate::pairing::Pairing;
use crate::parameter::Parameter;
use crate::platform::{Liveness, Profile, ReplayWindow};
use crate::rehearse::{Actor, KnownAddresses};
use crate::secret::Secret;
use crate::source::{Place, misleads};

/// A gateway to be adopted.
#[derive(Clone, Copy, Debug)]
pub struct Adoptee<'a> {
    /// As it was read.
    pub reading: ReadGateway<'a>,
    /// Its platform.
    pub facts: &'a Profile,
}

/// Something to be told beside the description.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Note {
    /// The tunnel that it is about; nothing where it is about a gateway.
    pub tunnel: Option<String>,
    /// What it is about.
    pub about: String,
    /// What is to be told.
    pub text: String,
    /// Where it stands at each end.
    pub places: [Option<Place>; 2],
    /// Whether the two ends disagree so that the tunnel does not work.
    pub fatal: bool,
}

/// What came of it.
#[derive(Clone, Debug, Default)]
pub struct Adopted {
    /// The description.
    pub text: String,
    /// Secrets by the file that the description names for each.
    pub secrets: BTreeMap<String, Secret>,
    /// Everything to be told.
    pub notes: Vec<Note>,
}

/// What a description means that says nothing of the replay window.
const DEFAULT_WINDOW: u32 = 128;

/// A text as TOML writes it (TOML 1.0, basic strings; JSON's are a part of those, but for U+007F), with nothing in it that misleads.
fn quoted(text: &str) -> String {
    let mut out = String::new();
    for c in serde_json::Value::from(text).to_string().chars() {
        match c {
            _ if !misleads(c) => out.push(c),
            '\u{10000}'.. => out.push_str(&format!("\\U{:08x}", u32::from(c))),
            _ => out.push_str(&format!("\\u{:04x}", u32::from(c))),
        }
    }
    out
}

fn list<T: ToString>(items: &[T]) -> String {
    match items {
        [one] => quoted(&one.to_string()),
        several => format!("[{}]", several.iter().map(|item| quoted(&item.to_string())).collect::<Vec<_>>().join(", ")),
    }
}

/// Two connections that become a tunnel.
struct Counterparts<'a> {
    name: String,
    connections: [&'a Connection; 2],
    /// What of each gateway belongs to it.
    parts: [Gateway; 2],
}

/// Makes a description of the tunnels that two gateways have with each other.
pub fn adopt(ends: [Adoptee<'_>; 2]) -> Adopted {
    let mut adopted = Adopted::default();
    let gateways = ends.map(|end| end.reading.gateway);
    let couples = Pairing::of(gateways, ends.map(|end| end.reading.ends_open), true);
    let mut pairs: Vec<Counterparts<'_>> = Vec::new();
    for (i, (one, other)) in couples.pairs().enumerate() {
        let taken = |name: &str| pairs.iter().any(|pair| pair.name == name);
        let name = [one, other].into_iter().map(|connection| plain(&connection.name)).find(|name| is_name(name) && !taken(name));
        let name = name.unwrap_or_else(|| format!("tunnel-{}", i + 1));
        let parts = [gateways[0].part_of(one), gateways[1].part_of(other)];
        pairs.push(Counterparts { name, connections: [one, other], parts });
    }
    for (end, alone) in couples.alone().into_iter().enumerate() {
        for connection in alone {
            let text = "it has no counterpart at the other end, and is left out".to_owned();
            let mut places = [None, None];
            places[end] = connection.remote.origin.place().cloned();
            adopted.notes.push(Note {
                tunnel: None,
                about: format!("{} of {}", connection.name, ends[end].reading.name),
                text,
                places,
                fatal: false,
            });
        }
    }
    let nets = [0, 1].map(|end| networks(&pairs, end));
    let mut text = "unified-span = 1\n".to_owned();
    for end in [0, 1] {
        site(&mut text, &mut adopted.notes, ends, end, &pairs, &nets[end]);
    }
    for pair in &pairs {
        tunnel(&mut text, &mut adopted, ends, pair, &nets);
    }
    adopted.notes.extend(disagreements(ends, &pairs));
    adopted.text = text;
    adopted
}

/// A name as a description can have it, as far as it is one.
fn plain(name: &str) -> String {
    let mut plain: String = name.chars().map(|c| if c.is_ascii_alphanumeric() { c.to_ascii_lowercase() } else { '-' }).collect();
    plain.truncate(LONGEST_NAME);
    plain.trim_matches('-').to_owned()
}

/// As many letters a name of a description has.
const LONGEST_NAME: usize = 32;

/// The names of the two sites: what their gateways are called, where those are names, and not the same one.
fn site_names(ends: [Adoptee<'_>; 2]) -> [String; 2] {
    let names = ends.map(|end| plain(end.reading.name));
    match names.iter().all(|name| is_name(name)) && names[0] != names[1] {
        true => names,
        false => ["left".to_owned(), "right".to_owned()],
    }
}

/// What crosses a pair, as its first end sees it: its network, as what that appears, the other's as that appears, and itself.
fn crossing(pair: &Counterparts<'_>) -> Vec<[IpNet; 4]> {
    let [one, other] = &pair.parts;
    // In the order of the Child SAs, and of the networks within them.
    let mut places: HashMap<(IpNet, IpNet), usize> = HashMap::new();
    for child in &pair.connections[0].children {
        for near in &child.local.value {
            for far in &child.remote.value {
                let next = places.len();
                places.entry((*near, *far)).or_insert(next);
            }
        }
    }
    let place = |near: &IpNet, far: &IpNet| places.get(&(*near, *far)).copied().unwrap_or(usize::MAX);
    let mut crossing: Vec<_> = one.crossing().into_iter().collect();
    crossing.sort_by_cached_key(|(near, far)| place(near, far));
    crossing.into_iter().map(|(near, far)| [one.inner(near, far), near, far, other.inner(far, near)]).collect()
}

/// The networks behind an end, each with a name: what the Child SAs are called after where that tells, else a number.
fn networks(pairs: &[Counterparts<'_>], end: usize) -> Vec<(String, IpNet)> {
    let mut nets: Vec<(String, IpNet)> = Vec::new();
    for pair in pairs.iter().filter(|pair| !pair.parts[0].speaks_for_itself()) {
        for crossed in crossing(pair) {
            let net = if end == 0 { crossed[0] } else { crossed[3] };
            if nets.iter().any(|(_, known)| *known == net) {
                continue;
            }
            let children = pair.connections[end].children.iter();
            let appears = if end == 0 { crossed[1] } else { crossed[2] };
            let mut told = children.filter(|child| child.local.value == [appears]).filter_map(|child| {
                let mut words = child.name.strip_prefix(&pair.connections[end].name)?.strip_prefix('_')?.split('_');
                let (first, second) = (words.next()?, words.next()?);
                words.next().is_none().then(|| if end == 0 { first } else { second }.to_owned())
            });
            let free = |name: &String| is_name(name) && nets.iter().all(|(known, _)| known != name);
            let name = told.find(free).unwrap_or_else(|| format!("net-{}", nets.len() + 1));
            nets.push((name, net));
        }
    }
    nets
}

fn site(
    text: &mut String,
    notes: &mut Vec<Note>,
    ends: [Adoptee<'_>; 2],
    end: usize,
    pairs: &[Counterparts<'_>],
    nets: &[(String, IpNet)],
) {
    let reading = ends[end].reading;
    let (name, gateway) = (site_names(ends)[end].clone(), reading.gateway);
    let mut note = |about: &str, text: String| {
        notes.push(Note { tunnel: None, about: format!("{about} of {}", reading.name), text, places: [None, None], fatal: false });
    };
    let (own, seen) = match pairs.first() {
        Some(pair) => (pair.connections[end].local.value.clone(), pair.connections[1 - end].remote.value.clone()),
        None => (Endpoint::Anywhere, Endpoint::Anywhere),
    };
    let address = match (seen.first(), own.first()) {
        (Endpoint::At(address), _) => address.to_string(),
        (Endpoint::Named(name), _) => name.clone(),
        (Endpoint::Anywhere, Endpoint::At(address)) => address.to_string(),
        _ => "dynamic".to_owned(),
    };
    let mut parts = vec![format!("address = {}", quoted(&address))];
    if let (Endpoint::At(own), Endpoint::At(seen)) = (&own, &seen)
        && own != seen
    {
        parts.push(format!("own-address = {}", quoted(&own.to_string())));
    }
    // The files may tell which interface has the outer address, and which ones the networks are behind.
    let outer = [own.address().or(seen.address())];
    let outside = gateway.addresses.iter().find(|own| outer.contains(&Some(own.address.addr())));
    let near = |own: &&OwnAddress| nets.iter().any(|(_, net)| net.contains(&own.address.addr()));
    let mut inside: Vec<String> = gateway.addresses.iter().filter(near).map(|own| own.interface.clone()).collect();
    inside.sort();
    inside.dedup();
    if outside.is_none() || (inside.is_empty() && !nets.is_empty()) {
        note("interfaces", "not all of their names are in the files: write them in place of wan0 and lan0".to_owned());
    }
    parts.push(format!("outside = {}", quoted(outside.map_or("wan0", |own| &own.interface))));
    if !nets.is_empty() {
        parts.push(format!("inside = {}", if inside.is_empty() { quoted("lan0") } else { list(&inside) }));
    }
    let _ = writeln!(text, "\n[site.{name}]\nplatform = {}\ngateway = {{ {} }}", quoted(&ends[end].facts.word), parts.join(", "));
    if !nets.is_empty() {
        let each: Vec<_> = nets.iter().map(|(name, net)| format!("{name} = {}", quoted(&net.to_string()))).collect();
        let _ = writeln!(text, "networks = {{ {} }}", each.join(", "));
    }
    let identity = pairs.first().map(|pair| &pair.connections[end].ike().local_identity.value);
    let words = match identity {
        Some(Identity::Address(is)) if is.to_string() != address => Some(("address", is.to_string())),
        Some(Identity::Address(_) | Identity::Anybody) | None => None,
        Some(Identity::Implied(what)) => {
            note("identity", format!("it is not said: {what}"));
            None
        }
        Some(said) => Some((said.kind(), said.to_string())),
    };
    if let Some((kind, is)) = words {
        let _ = writeln!(text, "identity = {{ {kind} = {} }}", quoted(&is));
    }
    let methods: Vec<_> = pairs.iter().map(|pair| pair.connections[end].ike().local_method.value).collect();
    if methods.contains(&Method::PublicKey) {
        let _ = writeln!(text, "keys = {{ public = \"keys/{name}.pub\" }}");
        note("keys", format!("put the public key into keys/{name}.pub; the private one stays on the gateway"));
    }
    if methods.contains(&Method::Certificate) {
        let _ = writeln!(text, "keys = {{ certificate = \"keys/{name}.crt\", issuer = \"keys/ca.crt\" }}");
        note(
            "keys",
            format!("put the certificate into keys/{name}.crt and its authority's into keys/ca.crt; the private key stays on the gateway"),
        );
    }
    if gateway.ruleset.masquerades() || gateway.nat.iter().any(|rule| rule.target == NatTarget::KeepSource) {
        let _ = writeln!(text, "shares-internet = true");
    }
    let filter = reading.tree.and_then(|tree| PACKET_FILTERS.iter().copied().find(|filter| filter.is_of(tree)));
    match filter.map(PacketFilter::word) {
        // The first is what a site has that names none.
        Some(word) if word == PACKET_FILTERS[0].word() => {}
        Some(word) => {
            let _ = writeln!(text, "packet-filter = {}", quoted(word));
        }
        None => note("packet filter", "there are no files of one: the rules that are written will be new".to_owned()),
    }
    // What its own chains drop nobody lets pass beside them: the tunnel's rules must join those.
    let must_join = gateway.filter.is_none() && gateway.ruleset.drops_the_rest();
    if must_join || gateway.filter.as_ref().is_some_and(crate::gateway::Filter::is_joined) {
        let _ = writeln!(text, "filter = \"joined\"");
    }
    let chains: Vec<_> = gateway.ruleset.chains.iter().map(|chain| format!("{} of the table {}", chain.name, chain.table)).collect();
    if !chains.is_empty() {
        let jump = if must_join { "; jump to the tunnel's from those that drop" } else { "" };
        let mut places = [None, None];
        places[end] = gateway.ruleset.chains.iter().find_map(|chain| chain.base.as_ref()?.place.0.clone());
        notes.push(Note {
            tunnel: None,
            about: format!("rules of {}", reading.name),
            text: format!("chains that are not a tunnel's stay as they are, outside of the description: {}{jump}", chains.join(", ")),
            places,
            fatal: false,
        });
    }
    if pairs.iter().any(|pair| pair.connections[end].interface.value.is_some()) {
        let _ = writeln!(text, "style = \"route-based\"");
    }
    if let Some(session) = gateway.sessions.first() {
        let _ = writeln!(text, "as-number = {}", session.own_as);
    }
}

fn tunnel(text: &mut String, adopted: &mut Adopted, ends: [Adoptee<'_>; 2], pair: &Counterparts<'_>, nets: &[Vec<(String, IpNet)>; 2]) {
    let [one, other] = pair.connections;
    let names = site_names(ends);
    let mut lines = vec![format!("between = [{}, {}]", quoted(&names[0]), quoted(&names[1]))];
    match one.ike().local_method.value {
        Method::SharedSecret => {
            let file = format!("secrets/{}.key", pair.name);
            lines.push(format!("secret = {{ file = {} }}", quoted(&file)));
            adopted.secret(ends, pair, file);
        }
        Method::PublicKey => lines.push("authentication = \"public-keys\"".to_owned()),
        Method::Certificate => lines.push("authentication = \"certificates\"".to_owned()),
    }
    if one.version() == IkeVersion::V1 {
        lines.push("version = \"ikev1\"".to_owned());
        if one.ike().exchange.value == Exchange::V1Aggressive {
            lines.push("aggressive = \"as it was found\"".to_owned());
        }
    }
    let first = [one, other].map(|connection| connection.children.first());
    if let [Some(child), Some(twin)] = first {
        offers(&mut lines, [one, other], [child, twin]);
        // A value that holds for a whole daemon, or that cannot be chosen, is taken from the other end.
        let chosen = |of_daemon: fn(&Profile) -> bool| usize::from(of_daemon(ends[0].facts) && !of_daemon(ends[1].facts));
        let watching = chosen(|facts| facts.liveness == Liveness::OfDaemon);
        lives(&mut lines, one, child, pair.connections[watching].ike().liveness.value);
        let settable = chosen(|facts| matches!(facts.replay_window, ReplayWindow::Fixed(_)));
        let window = [child, twin][settable].replay_window.value;
        if window != DEFAULT_WINDOW && ends.iter().any(|end| end.facts.replay_window == ReplayWindow::Settable) {
            lines.push(format!("replay-window = {window}"));
        }
        packets(&mut lines, one, child);
        if let Some(protocol) = child.protocol.value.filter(|protocol| *protocol != crate::gateway::GRE) {
            let text = format!("they are limited to IP protocol {protocol}, which a description does not say: they will take all");
            adopted.note(pair, "selectors", text, [child.protocol.origin.place().cloned(), None]);
        }
        let different =
            one.children.iter().any(|more| (&more.esp, &more.lifetime, &more.mode) != (&child.esp, &child.lifetime, &child.mode));
        if different {
            let text = "they are not alike in proposals, lifetime or mode: those of the first are taken for all".to_owned();
            adopted.note(pair, "Child SAs", text, [child.esp.origin.place().cloned(), None]);
        }
    }
    carried(&mut lines, pair, &names, nets);
    services(&mut lines, pair, &names);
    opening(&mut lines, pair, &names);
    let _ = writeln!(text, "\n[tunnel.{}]\n{}", pair.name, lines.join("\n"));
}

impl Adopted {
    fn note(&mut self, pair: &Counterparts<'_>, about: &str, text: String, places: [Option<Place>; 2]) {
        self.notes.push(Note { tunnel: Some(pair.name.clone()), about: about.to_owned(), text, places, fatal: false });
    }

    /// The secret of the first end that has one which a file can hold: one line of text.
    fn secret(&mut self, ends: [Adoptee<'_>; 2], pair: &Counterparts<'_>, file: String) {
        let secrets = [0, 1].map(|end| ends[end].reading.gateway.secret_for(pair.connections[end]));
        let line =
            |secret: &&Secret| std::str::from_utf8(secret.expose()).is_ok_and(|text| !text.is_empty() && !text.contains(['\n', '\r']));
        match secrets.into_iter().flatten().find(line) {
            Some(secret) => {
                self.secrets.insert(file, secret.clone());
            }
            None => {
                let text = match secrets {
                    [None, None] => format!("neither end's files hold it: supply {file}"),
                    _ => format!("its bytes are no text, which {file} would have to be: agree on a new one with `uspan secret {file}`"),
                };
                self.note(pair, "shared secret", text, [None, None]);
            }
        }
    }
}

/// ESP proposals that both ends can agree on; where the two disagree on PFS the first one counts.
fn common_esp(one: &[Proposal], other: &[Proposal]) -> Vec<Proposal> {
    let groups = |list: &[Proposal]| list.first().map(|proposal| proposal.of(Kind::KeyExchange).to_vec()).unwrap_or_default();
    let agreed = common(one, other);
    let shared = agreed != one || one == other;
    if shared {
        return agreed;
    }
    let without = |list: &[Proposal]| list.iter().map(|proposal| proposal.without(Kind::KeyExchange)).collect::<Vec<_>>();
    let pfs = groups(one);
    common(&without(one), &without(other)).iter().map(|proposal| proposal.with(Kind::KeyExchange, pfs.iter().copied())).collect()
}

/// The part of the ciphers that needs integrity, and the part that does not: a description has them apart.
fn apart(ciphers: &[Transform]) -> [Vec<Transform>; 2] {
    let (combined, plain) = ciphers.iter().partition(|cipher: &&Transform| cipher.is_aead());
    [combined, plain]
}

fn offers(lines: &mut Vec<String>, connections: [&Connection; 2], children: [&Child; 2]) {
    let ike = common(&connections[0].ike().proposals.value, &connections[1].ike().proposals.value);
    let esp = common_esp(&children[0].esp.value, &children[1].esp.value);
    let mut said_ike = Vec::new();
    for proposal in &ike {
        let [combined, plain] = apart(proposal.of(Kind::Encryption));
        let groups = list(proposal.of(Kind::KeyExchange));
        if !combined.is_empty() {
            said_ike.push(format!("{{ encryption = {}, prf = {}, group = {groups} }}", list(&combined), list(proposal.of(Kind::Prf))));
        }
        if !plain.is_empty() {
            let prf = if proposal.prfs_of_hashes() == proposal.of(Kind::Prf) {
                String::new()
            } else {
                format!("prf = {}, ", list(proposal.of(Kind::Prf)))
            };
            let integrity = list(proposal.of(Kind::Integrity));
            said_ike.push(format!("{{ encryption = {}, integrity = {integrity}, {prf}group = {groups} }}", list(&plain)));
        }
    }
    let mut said_esp: Vec<String> = Vec::new();
    for proposal in &esp {
        let [combined, plain] = apart(proposal.of(Kind::Encryption));
        let mut add = |text: String| {
            if !said_esp.contains(&text) {
                said_esp.push(text);
            }
        };
        if !combined.is_empty() {
            add(format!("{{ encryption = {} }}", list(&combined)));
        }
        if !plain.is_empty() {
            add(format!("{{ encryption = {}, integrity = {} }}", list(&plain), list(proposal.of(Kind::Integrity))));
        }
    }
    match preset(&said_ike, &said_esp) {
        Some("strong") => {}
        Some(name) => lines.push(format!("strength = {}", quoted(name))),
        None => {
            lines.push(format!("ike = [{}]", said_ike.join(", ")));
            lines.push(format!("esp = [{}]", said_esp.join(", ")));
        }
    }
    let of_ike = ike.first().and_then(|proposal| proposal.first(Kind::KeyExchange));
    match esp.first().and_then(|proposal| proposal.first(Kind::KeyExchange)) {
        None => lines.push("pfs = false".to_owned()),
        Some(group) if Some(group) == of_ike => {}
        Some(group) => lines.push(format!("pfs = {}", quoted(&group.to_string()))),
    }
    let weak = weak(&ike, &esp);
    if !weak.is_empty() {
        let each: Vec<_> = weak.iter().map(|name| format!("{name} = \"as it was found; agree on something newer\"")).collect();
        lines.push(format!("allows-weak = {{ {} }}", each.join(", ")));
    }
}

/// The ready-made strength that stands for these.
fn preset(ike: &[String], esp: &[String]) -> Option<&'static str> {
    let words = |text: &str| quoted(text);
    PRESETS.iter().find_map(|preset| {
        let same_ike = preset.ike.iter().map(|(cipher, integrity, prf, group)| match *integrity {
            "" => format!("{{ encryption = {}, prf = {}, group = {} }}", words(cipher), words(prf), words(group)),
            integrity => format!("{{ encryption = {}, integrity = {}, group = {} }}", words(cipher), words(integrity), words(group)),
        });
        let same_esp = preset.esp.iter().map(|(cipher, integrity)| match *integrity {
            "" => format!("{{ encryption = {} }}", words(cipher)),
            integrity => format!("{{ encryption = {}, integrity = {} }}", words(cipher), words(integrity)),
        });
        (same_ike.eq(ike.iter().cloned()) && same_esp.eq(esp.iter().cloned())).then_some(preset.name)
    })
}

/// Names of the weak algorithms among proposals.
fn weak(ike: &[Proposal], esp: &[Proposal]) -> Vec<String> {
    let rows = ike.iter().chain(esp).flat_map(Proposal::transforms).filter_map(|transform| transform.row());
    let mut weak: Vec<_> = rows.filter(|row| !row.weak.is_empty() && !row.name.is_empty()).map(|row| row.name.to_owned()).collect();
    weak.sort();
    weak.dedup();
    weak
}

fn lives(lines: &mut Vec<String>, connection: &Connection, child: &Child, liveness: Option<Duration>) {
    let ike = duration_words(connection.ike().lifetime.value.hard);
    let esp = duration_words(child.lifetime.value.hard);
    if ike != "8h" {
        lines.push(format!("ike-lifetime = {}", quoted(&ike)));
    }
    if esp != "1h" {
        lines.push(format!("esp-lifetime = {}", quoted(&esp)));
    }
    match liveness.map(duration_words).as_deref() {
        Some("30s") => {}
        Some(interval) => lines.push(format!("liveness = {}", quoted(interval))),
        None => lines.push("liveness = \"off\"".to_owned()),
    }
}

fn packets(lines: &mut Vec<String>, connection: &Connection, child: &Child) {
    match connection.encapsulation.value {
        Encapsulation::Automatic => {}
        Encapsulation::Forced => lines.push("nat-traversal = \"forced\"".to_owned()),
        Encapsulation::Off => lines.push("nat-traversal = \"off\"".to_owned()),
    }
    if child.sequence_numbers().first(Kind::SequenceNumbers) == Some(Transform::sequence_numbers(true)) {
        lines.push("extended-sequence-numbers = true".to_owned());
    }
    match child.dscp.value {
        Dscp::Outwards => {}
        Dscp::Both => lines.push("copies-dscp = \"both\"".to_owned()),
        Dscp::Never => lines.push("copies-dscp = \"never\"".to_owned()),
    }
}

/// What may cross, and in what.
fn carried(lines: &mut Vec<String>, pair: &Counterparts<'_>, names: &[String; 2], nets: &[Vec<(String, IpNet)>; 2]) {
    if pair.parts[0].speaks_for_itself() {
        lines.push("carries = \"gateways\"".to_owned());
        return;
    }
    let name = |end: usize, net: &IpNet| nets[end].iter().find(|(_, known)| known == net).map(|(name, _)| name.clone()).unwrap_or_default();
    let crossing = crossing(pair);
    let mut wanted: Vec<[String; 2]> = crossing.iter().map(|[near, _, _, far]| [name(0, near), name(1, far)]).collect();
    wanted.sort();
    wanted.dedup();
    let same_family = |a: &IpNet, b: &IpNet| a.addr().is_ipv4() == b.addr().is_ipv4();
    let all = nets[0].iter().flat_map(|(_, near)| nets[1].iter().filter(move |(_, far)| same_family(near, far)));
    if wanted.len() != all.count() {
        let each: Vec<_> = wanted.iter().map(|[near, far]| format!("[{}, {}]", quoted(near), quoted(far))).collect();
        lines.push(format!("carries = [{}]", each.join(", ")));
    }
    let mut appears: [BTreeMap<String, String>; 2] = [BTreeMap::new(), BTreeMap::new()];
    for [near, near_as, far_as, far] in &crossing {
        for (end, real, seen) in [(0, near, near_as), (1, far, far_as)] {
            if real != seen {
                appears[end].insert(name(end, real), seen.to_string());
            }
        }
    }
    let each = |end: usize| {
        let nets: Vec<_> = appears[end].iter().map(|(name, net)| format!("{name} = {}", quoted(net))).collect();
        (!nets.is_empty()).then(|| format!("{} = {{ {} }}", names[end], nets.join(", ")))
    };
    let sites: Vec<_> = [0, 1].into_iter().filter_map(each).collect();
    if !sites.is_empty() {
        lines.push(format!("appears-as = {{ {} }}", sites.join(", ")));
    }
    if pair.parts[0].wraps() {
        lines.push("carrier = \"gre\"".to_owned());
    }
    if !pair.parts[0].sessions.is_empty() {
        lines.push("routing = \"bgp\"".to_owned());
    }
    let linked = pair.parts[0].interfaces.iter().find(|interface| !interface.addresses.is_empty());
    if let Some(net) = linked.and_then(|interface| interface.addresses.first()) {
        lines.push(format!("link = {}", quoted(&net.trunc().to_string())));
    }
}

/// What connections may be for.
fn services(lines: &mut Vec<String>, pair: &Counterparts<'_>, names: &[String; 2]) {
    let filtered = pair.parts.iter().any(|part| part.filter.as_ref().is_some_and(|filter| !filter.rules.is_empty()));
    if !filtered {
        return;
    }
    let opens = pair.parts.each_ref().map(Gateway::hosts_may_open);
    let words = |passing: &Passing| match passing {
        Passing::All => None,
        Passing::Only(list) => Some(list.iter().map(|traffic| quoted(&traffic.to_string())).collect::<Vec<_>>().join(", ")),
    };
    let nothing = |passing: &Passing| *passing == Passing::Only(Vec::new());
    match (&opens[0], &opens[1]) {
        (Passing::All, Passing::All) => {}
        (one, other) if nothing(one) != nothing(other) => {
            let end = usize::from(nothing(one));
            lines.push(format!("one-way = {}", quoted(&names[end])));
            if let Some(list) = words(&opens[end]) {
                lines.push(format!("services = [{list}]"));
            }
        }
        (one, other) if one == other => {
            if let Some(list) = words(one) {
                lines.push(format!("services = [{list}]"));
            }
        }
        (one, other) => {
            let each =
                |name: &str, passing: &Passing| words(passing).map_or(format!("{name} = \"all\""), |list| format!("{name} = [{list}]"));
            lines.push(format!("services = {{ {}, {} }}", each(&names[0], one), each(&names[1], other)));
        }
    }
}

/// Who opens it, and when.
fn opening(lines: &mut Vec<String>, pair: &Counterparts<'_>, names: &[String; 2]) {
    let of = |connection: &Connection| connection.children.first().map_or(Opening::WAIT, |child| child.opening.value);
    let opens = pair.connections.map(of);
    let word = |opening: Opening| match opening {
        Opening { start: true, .. } => None,
        Opening { trap: true, .. } => Some("opens = \"on-traffic\"".to_owned()),
        _ => Some("opens = \"by-hand\"".to_owned()),
    };
    match opens {
        [first, second] if !second.opens() => lines.extend(word(first)),
        [first, second] if !first.opens() => {
            lines.push(format!("opened-by = {}", quoted(&names[1])));
            lines.extend(word(second));
        }
        [first, _] => {
            lines.push("opened-by = \"either\"".to_owned());
            lines.extend(word(first));
        }
    }
}

/// Whether a harmless difference is one that a description has too: what each end has for itself, or cannot choose.
fn each_for_itself(ends: [Adoptee<'_>; 2], row: &ComparedParameter) -> bool {
    let fixed = |of: fn(&Profile) -> bool| ends.iter().any(|end| of(end.facts));
    row.gravity == Gravity::Compatible
        && match row.parameter {
            Parameter::Exemption | Parameter::Opening | Parameter::Steering | Parameter::Address => true,
            Parameter::ReplayWindow => fixed(|facts| matches!(facts.replay_window, ReplayWindow::Fixed(_))),
            Parameter::Liveness => fixed(|facts| facts.liveness == Liveness::OfDaemon),
            _ => false,
        }
}

/// Everything in which the two ends differ: what the first one says was taken.
fn disagreements(ends: [Adoptee<'_>; 2], pairs: &[Counterparts<'_>]) -> Vec<Note> {
    let [left, right] = ends.map(|end| Actor { reading: end.reading, behaviour: &end.facts.behaviour, stands: KnownAddresses::default() });
    let comparison = compare_ends(left, right);
    let mut notes = Vec::new();
    for compared in &comparison.pairs {
        let tunnel = pairs.iter().find(|pair| pair.connections[0].name == compared.names[0]).map(|pair| pair.name.clone());
        let told = compared.told().into_iter().map(|(parameter, _)| parameter);
        for parameter in told.filter(|parameter| parameter.gravity != Gravity::Equal && !each_for_itself(ends, parameter)) {
            let said = |shown: &Shown| shown.value.replace('\n', "; ");
            let [one, other] = parameter.values.each_ref().map(said);
            let names = ends.map(|end| end.reading.name);
            let text = format!("{} says {one}, {} says {other}", names[0], names[1]);
            let places = parameter.values.each_ref().map(|shown| shown.place.clone());
            let fatal = parameter.gravity == Gravity::Fatal;
            notes.push(Note { tunnel: tunnel.clone(), about: parameter.name.clone(), text, places, fatal });
        }
    }
    notes
}
