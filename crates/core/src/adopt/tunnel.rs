//! A tunnel of an adopted description.

use std::collections::BTreeMap;
use std::time::Duration;

use ipnet::IpNet;
use toml_edit::{Array, Table, Value};

use super::{Adopted, Adoptee, Counterparts, Note, NoteKind, crossing, inline, list, say, site_names, text};
use uspan_description::description::EVERYTHING;
use uspan_dialects::profile::{Liveness, Profile, ReplayWindow, SeveralPairs};
use uspan_judge::fits::proposals::common;
use uspan_model::algorithm::{Kind, PRESETS, Transform};
use uspan_model::duration::duration_words;
use uspan_model::gateway::{
    Child, Connection, Dscp, Encapsulation, Exchange, Gateway, Hook, IkeVersion, Method, Mode, Opening, Packet, Passing, Proposal,
    Protection, Traffic, Verdict,
};
use uspan_model::secret::Secret;
use uspan_model::source::Place;

/// What a description means that says nothing of the replay window.
const DEFAULT_WINDOW: u32 = 128;

/// The table of a tunnel.
pub(super) fn table(adopted: &mut Adopted, ends: [Adoptee<'_>; 2], pair: &Counterparts<'_>, nets: &[Vec<(String, IpNet)>; 2]) -> Table {
    let [one, other] = pair.connections;
    let names = site_names(ends);
    let mut table = Table::new();
    say(&mut table, "between", names.iter().map(|name| text(name)).collect::<Array>());
    match one.ike().local_method.value {
        Method::SharedSecret => {
            let file = format!("secrets/{}.key", pair.secret);
            let mut said = vec![("file", text(&file))];
            if adopted.secret(ends, pair, file) {
                said.push(("in-use", text("with the tunnel as it was found")));
            }
            say(&mut table, "secret", inline(said));
        }
        Method::PublicKey => say(&mut table, "authentication", "public-keys"),
        Method::Certificate => say(&mut table, "authentication", "certificates"),
    }
    if one.version() == IkeVersion::V1 {
        say(&mut table, "version", "ikev1");
        if one.ike().exchange.value == Exchange::V1Aggressive {
            say(&mut table, "aggressive", "as it was found");
        }
    }
    let first = [one, other].map(|connection| connection.children.first());
    if let [Some(child), Some(twin)] = first {
        offers(&mut table, [one, other], [child, twin]);
        // A value that holds for a whole daemon, or that cannot be chosen, is taken from the other end.
        let chosen = |of_daemon: fn(&Profile) -> bool| usize::from(of_daemon(ends[0].facts) && !of_daemon(ends[1].facts));
        let watching = chosen(|facts| facts.liveness == Liveness::OfDaemon);
        lives(&mut table, ends, pair, child, pair.connections[watching].ike().liveness.value);
        let settable = chosen(|facts| matches!(facts.replay_window, ReplayWindow::Fixed(_)));
        let window = [child, twin][settable].replay_window.value;
        if window != DEFAULT_WINDOW && ends.iter().any(|end| end.facts.replay_window == ReplayWindow::Settable) {
            say(&mut table, "replay-window", i64::from(window));
        }
        packets(&mut table, one, [child, twin]);
    }
    carried(&mut table, pair, &names, nets);
    // Where both ways are open, what is not said becomes an SA for each pair.
    let both_ways =
        ends.iter().all(|end| [SeveralPairs::AnSaEach, SeveralPairs::InOneSa].iter().all(|way| end.facts.selectors.contains(way)));
    let lists = |connection: &Connection| match connection.children.as_slice() {
        [child] => child.local.value.len() * child.remote.value.len() > 1,
        _ => false,
    };
    if both_ways && lists(one) && lists(other) && one.version() == IkeVersion::V2 {
        say(&mut table, "esp-sas", "together");
    }
    services(&mut table, pair, &names);
    opening(&mut table, pair, &names);
    table
}

impl Adopted {
    fn note(&mut self, pair: &Counterparts<'_>, about: &str, text: String, places: [Option<Place>; 2]) {
        self.notes.push(Note { tunnel: Some(pair.name.clone()), about: about.to_owned(), text, places, kind: NoteKind::Told });
    }

    /// Takes the secret of the first end that has one which a file can hold, one line of text; whether there is one.
    fn secret(&mut self, ends: [Adoptee<'_>; 2], pair: &Counterparts<'_>, file: String) -> bool {
        let secrets = [0, 1].map(|end| ends[end].reading.gateway.secret_for(pair.connections[end]));
        let line =
            |secret: &&Secret| std::str::from_utf8(secret.expose()).is_ok_and(|text| !text.is_empty() && !text.contains(['\n', '\r']));
        match secrets.into_iter().flatten().find(line) {
            Some(secret) => {
                self.secrets.insert(file, secret.clone());
                true
            }
            None => {
                let text = match secrets {
                    [None, None] => format!("neither end's files hold it: supply {file}"),
                    _ => format!("its bytes are no text, which {file} would have to be: agree on a new one with `uspan secret {file}`"),
                };
                self.note(pair, "shared secret", text, [None, None]);
                false
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

fn offers(table: &mut Table, connections: [&Connection; 2], children: [&Child; 2]) {
    let ike = common(&connections[0].ike().proposals.value, &connections[1].ike().proposals.value);
    let esp = common_esp(&children[0].esp.value, &children[1].esp.value);
    let mut said_ike = Vec::new();
    for proposal in &ike {
        let [combined, plain] = apart(proposal.of(Kind::Encryption));
        let groups = list(proposal.of(Kind::KeyExchange));
        if !combined.is_empty() {
            let prfs = list(proposal.of(Kind::Prf));
            said_ike.push(inline([("encryption", list(&combined)), ("prf", prfs), ("group", groups.clone())]));
        }
        if !plain.is_empty() {
            let mut said = vec![("encryption", list(&plain)), ("integrity", list(proposal.of(Kind::Integrity)))];
            if proposal.prfs_of_hashes() != proposal.of(Kind::Prf) {
                said.push(("prf", list(proposal.of(Kind::Prf))));
            }
            said.push(("group", groups));
            said_ike.push(inline(said));
        }
    }
    let mut said_esp: Vec<Value> = Vec::new();
    for proposal in &esp {
        let [combined, plain] = apart(proposal.of(Kind::Encryption));
        let mut add = |said: Value| {
            if said_esp.iter().all(|known| known.to_string() != said.to_string()) {
                said_esp.push(said);
            }
        };
        if !combined.is_empty() {
            add(inline([("encryption", list(&combined))]));
        }
        if !plain.is_empty() {
            add(inline([("encryption", list(&plain)), ("integrity", list(proposal.of(Kind::Integrity)))]));
        }
    }
    match preset(&said_ike, &said_esp) {
        Some("strong") => {}
        Some(name) => say(table, "strength", name),
        None => {
            say(table, "ike", said_ike.into_iter().collect::<Array>());
            say(table, "esp", said_esp.into_iter().collect::<Array>());
        }
    }
    let of_ike = ike.first().and_then(|proposal| proposal.first(Kind::KeyExchange));
    match esp.first().and_then(|proposal| proposal.first(Kind::KeyExchange)) {
        None => say(table, "pfs", false),
        Some(group) if Some(group) == of_ike => {}
        Some(group) => say(table, "pfs", text(&group.to_string())),
    }
    let weak = weak(&ike, &esp);
    if !weak.is_empty() {
        let each = weak.iter().map(|name| (name, Value::from("as it was found; agree on something newer")));
        say(table, "allows-weak", inline(each));
    }
}

/// The ready-made strength that stands for these.
fn preset(ike: &[Value], esp: &[Value]) -> Option<&'static str> {
    let same = |one: &[Value], other: Vec<Value>| one.iter().map(Value::to_string).eq(other.iter().map(Value::to_string));
    PRESETS.iter().find_map(|preset| {
        let of_ike = preset.ike.iter().map(|(cipher, integrity, prf, group)| {
            let second = if integrity.is_empty() { ("prf", text(prf)) } else { ("integrity", text(integrity)) };
            inline([("encryption", text(cipher)), second, ("group", text(group))])
        });
        let of_esp = preset.esp.iter().map(|(cipher, integrity)| {
            let second = (!integrity.is_empty()).then(|| ("integrity", text(integrity)));
            inline([("encryption", text(cipher))].into_iter().chain(second))
        });
        (same(ike, of_ike.collect()) && same(esp, of_esp.collect())).then_some(preset.name)
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

fn lives(table: &mut Table, ends: [Adoptee<'_>; 2], pair: &Counterparts<'_>, child: &Child, liveness: Option<Duration>) {
    let [connection, other] = pair.connections;
    // As long as both daemons can have it: what the first end says, or else the other.
    let longest = ends.iter().map(|end| end.facts.longest_lifetime).min().unwrap_or_default();
    let fitting = |own: Duration, other: Duration| if own <= longest { own } else { other.min(longest) };
    let of_other = other.children.first().map_or(longest, |child| child.lifetime.value.hard);
    let ike = duration_words(fitting(connection.ike().lifetime.value.hard, other.ike().lifetime.value.hard));
    let esp = duration_words(fitting(child.lifetime.value.hard, of_other));
    if ike != "8h" {
        say(table, "ike-lifetime", text(&ike));
    }
    if esp != "1h" {
        say(table, "esp-lifetime", text(&esp));
    }
    match liveness.map(duration_words).as_deref() {
        Some("30s") => {}
        Some(interval) => say(table, "liveness", text(interval)),
        None => say(table, "liveness", "off"),
    }
}

fn packets(table: &mut Table, connection: &Connection, [child, twin]: [&Child; 2]) {
    match connection.encapsulation.value {
        Encapsulation::Automatic => {}
        Encapsulation::Forced => say(table, "nat-traversal", "forced"),
        Encapsulation::Off => say(table, "nat-traversal", "off"),
    }
    // Where one end leaves it open the other one decides; where both do, they take those of 64 bits.
    let long = Transform::sequence_numbers(true);
    if [child, twin].iter().all(|child| child.sequence_numbers().transforms().contains(&long)) {
        say(table, "extended-sequence-numbers", true);
    }
    match child.dscp.value {
        Dscp::Outwards => {}
        Dscp::Both => say(table, "copies-dscp", "both"),
        Dscp::Never => say(table, "copies-dscp", "never"),
    }
}

/// Tunnel mode where transport mode holds unless something is said.
fn tunnel_mode(table: &mut Table, pair: &Counterparts<'_>) {
    if pair.connections[0].children.iter().any(|child| child.mode.value == Mode::Tunnel) {
        say(table, "mode", "tunnel");
    }
}

/// What may cross, and in what.
fn carried(table: &mut Table, pair: &Counterparts<'_>, names: &[String; 2], nets: &[Vec<(String, IpNet)>; 2]) {
    if pair.parts[0].speaks_for_itself() {
        say(table, "carries", "gateways");
        tunnel_mode(table, pair);
        return;
    }
    let name = |end: usize, net: &IpNet| nets[end].iter().find(|(_, known)| known == net).map(|(name, _)| name.clone()).unwrap_or_default();
    let crossing = crossing(pair);
    let mut wanted: Vec<[String; 2]> = crossing.iter().map(|[near, _, _, far]| [name(0, near), name(1, far)]).collect();
    wanted.sort();
    wanted.dedup();
    let same_family = |a: &IpNet, b: &IpNet| a.addr().is_ipv4() == b.addr().is_ipv4();
    let all = nets[0].iter().flat_map(|(_, near)| nets[1].iter().filter(move |(_, far)| same_family(near, far)));
    let whole = wanted.iter().flatten().any(|name| name == EVERYTHING);
    if whole || wanted.len() != all.count() {
        let each = wanted.iter().map(|[near, far]| Value::Array([text(near), text(far)].into_iter().collect()));
        say(table, "carries", each.collect::<Array>());
        // What the gateways do with all else stays as it is.
        if !drops_uncarried(pair, nets, &wanted, &name) {
            say(table, "not-carried", "left-alone");
        }
    }
    let limit = pair.connections[0].children.first().and_then(|child| Some((child.protocol.value?, child.ports.value)));
    if let Some((protocol, ports)) = limit.filter(|_| !pair.parts[0].wraps()) {
        let known = |end: usize| ports[end].map(|port| (&names[end], Value::from(i64::from(port))));
        let known: Vec<_> = [0, 1].into_iter().filter_map(known).collect();
        let mut said = vec![("protocol", text(&protocol.to_string()))];
        if !known.is_empty() {
            said.push(("ports", inline(known)));
        }
        say(table, "limited-to", inline(said));
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
        let nets = appears[end].iter().map(|(name, net)| (name, text(net)));
        (!appears[end].is_empty()).then(|| (&names[end], inline(nets)))
    };
    let sites: Vec<_> = [0, 1].into_iter().filter_map(each).collect();
    if !sites.is_empty() {
        say(table, "appears-as", inline(sites));
    }
    if pair.parts[0].wraps() {
        say(table, "carrier", "gre");
        tunnel_mode(table, pair);
    }
    if !pair.parts[0].sessions.is_empty() {
        say(table, "routing", "bgp");
    }
    let linked = pair.parts[0].interfaces.iter().find(|interface| !interface.addresses.is_empty());
    if let Some(net) = linked.and_then(|interface| interface.addresses.first()) {
        say(table, "link", text(&net.trunc().to_string()));
    }
}

/// Whether a gateway's own rules drop whatever of two networks does not cross.
fn drops_uncarried(
    pair: &Counterparts<'_>,
    nets: &[Vec<(String, IpNet)>; 2],
    wanted: &[[String; 2]],
    name: &impl Fn(usize, &IpNet) -> String,
) -> bool {
    let drops = |end: usize, own: &IpNet, remote: &IpNet| {
        let (hook, protection, traffic) = (Hook::Forward, Protection::Any, Traffic::Any);
        let packet = Packet { hook, from: *own, to: *remote, protection, traffic };
        pair.parts[end].filter.as_ref().is_some_and(|filter| filter.verdict(&packet) == Some(Verdict::Drop))
    };
    let own = |end: usize| nets[end].iter().map(|(_, net)| net).filter(|net| net.prefix_len() > 0);
    let all = own(0).flat_map(|near| own(1).map(move |far| (near, far)));
    let carried = |near: &IpNet, far: &IpNet| wanted.contains(&[name(0, near), name(1, far)]) || pair.beside.contains(&[*near, *far]);
    let mut uncarried = all.filter(|(near, far)| near.addr().is_ipv4() == far.addr().is_ipv4() && !carried(near, far));
    uncarried.all(|(near, far)| drops(0, near, far) || drops(1, far, near))
}

/// What connections may be for.
fn services(table: &mut Table, pair: &Counterparts<'_>, names: &[String; 2]) {
    // What the selectors are limited to says it.
    if table.contains_key("limited-to") {
        return;
    }
    let filtered = pair.parts.iter().any(|part| part.filter.as_ref().is_some_and(|filter| !filter.rules.is_empty()));
    if !filtered {
        return;
    }
    let opens = pair.parts.each_ref().map(Gateway::hosts_may_open);
    let words = |passing: &Passing| match passing {
        Passing::All => None,
        Passing::Only(list) => Some(list.iter().map(|traffic| text(&traffic.to_string())).collect::<Array>()),
    };
    let nothing = |passing: &Passing| *passing == Passing::Only(Vec::new());
    match (&opens[0], &opens[1]) {
        (Passing::All, Passing::All) => {}
        (one, other) if nothing(one) != nothing(other) => {
            let end = usize::from(nothing(one));
            say(table, "one-way", text(&names[end]));
            if let Some(list) = words(&opens[end]) {
                say(table, "services", list);
            }
        }
        (one, other) if one == other => {
            if let Some(list) = words(one) {
                say(table, "services", list);
            }
        }
        (one, other) => {
            let each = |passing: &Passing| words(passing).map_or(Value::from("all"), Value::Array);
            say(table, "services", inline([(&names[0], each(one)), (&names[1], each(other))]));
        }
    }
}

/// Who opens it, and when.
fn opening(table: &mut Table, pair: &Counterparts<'_>, names: &[String; 2]) {
    let of = |connection: &Connection| connection.children.first().map_or(Opening::WAIT, |child| child.opening.value);
    let opens = pair.connections.map(of);
    let word = |opening: Opening| match opening {
        Opening { start: true, .. } => None,
        Opening { trap: true, .. } => Some("on-traffic"),
        _ => Some("by-hand"),
    };
    let [first, second] = opens;
    let opener = if !second.opens() {
        first
    } else if !first.opens() {
        say(table, "initiator", text(&names[1]));
        second
    } else {
        say(table, "initiator", "either");
        first
    };
    if let Some(word) = word(opener) {
        say(table, "opens", word);
    }
}
