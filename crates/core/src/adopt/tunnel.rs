//! A tunnel of an adopted description.

use std::collections::BTreeMap;
use std::fmt::Write as _;
use std::time::Duration;

use ipnet::IpNet;

use super::{Adopted, Adoptee, Counterparts, Note, crossing, list, quoted, site_names};
use uspan_dialects::profile::{Liveness, Profile, ReplayWindow};
use uspan_judge::fits::proposals::common;
use uspan_model::algorithm::{Kind, PRESETS, Transform};
use uspan_model::duration::duration_words;
use uspan_model::gateway::{
    Child, Connection, Dscp, Encapsulation, Exchange, GRE, Gateway, IkeVersion, Method, Opening, Passing, Proposal,
};
use uspan_model::secret::Secret;
use uspan_model::source::Place;

/// What a description means that says nothing of the replay window.
const DEFAULT_WINDOW: u32 = 128;

/// The table of a tunnel.
pub(super) fn write(
    text: &mut String,
    adopted: &mut Adopted,
    ends: [Adoptee<'_>; 2],
    pair: &Counterparts<'_>,
    nets: &[Vec<(String, IpNet)>; 2],
) {
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
        if let Some(protocol) = child.protocol.value.filter(|protocol| *protocol != GRE) {
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
