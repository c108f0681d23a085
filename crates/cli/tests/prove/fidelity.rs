//! Pairs in which something was changed at random, on either side, once or several times: what `rehearse` says of them is
//! what the daemons make of them.

use crate::{hand, known};
use std::collections::BTreeMap;
use std::path::{Path, PathBuf};

use ipnet::IpNet;
use uspan_core::algorithm::{Kind, Transform};
use uspan_core::{
    Actor, Cause, Child, Connection, Description, Dscp, Encapsulation, Endpoint, Exchange, Gateway, Identity, IkeVersion, KnownAddresses,
    Lifetime, Method, Mode, OwnEnd, Proposal, ReadGateway, Rehearsal, RehearsalFailure, Remarks, Secret, Setting, SharedSecret, Source,
    Stage, Supplied, Tree, build, rehearse,
};
use uspan_lab::{Depth, Event, IkeSeen, Job, Negotiation, cast};

use crate::suite::{LSW, OI, Pair, SS, orchard, ordered_pairs, supplied};

/// A pair that was changed.
pub struct Case {
    pub platforms: [&'static str; 2],
    /// What it was before.
    pub base: &'static str,
    /// What was changed, and where.
    pub changes: Vec<String>,
    /// The gateways as their files say.
    pub gateways: [Gateway; 2],
    pub trees: [Tree; 2],
    /// What the lab is to try.
    pub job: Job,
}

/// As many pairs as a guest has room for, one after the other.
const AT_ONCE: usize = 60;

/// Lets the daemons negotiate, but for cases of which it is known what came of them. It is written down on the way, if asked.
pub fn negotiate(cases: &[Case], came: &mut BTreeMap<usize, Negotiation>, note: Option<&Path>) {
    let keep: Option<PathBuf> = std::env::var_os("USPAN_KEEP").map(Into::into);
    let open: Vec<&Case> = cases.iter().filter(|case| !came.contains_key(&case.job.number)).collect();
    let mut through = 0;
    for some in open.chunks(AT_ONCE) {
        let jobs = some.iter().map(|case| case.job.clone()).collect();
        crate::perform(jobs, keep.clone(), &mut |event| match event {
            Event::Negotiated { job, came: one, .. } => {
                came.insert(job, *one);
                if let Some(path) = note {
                    std::fs::write(path, serde_json::to_string(came).expect("text")).expect("written");
                }
            }
            Event::Broken { job, how } => panic!("{job}: {how}"),
            Event::Through(_) => {
                through += 1;
                if through % 8 == 0 {
                    crate::say(&format!("{through} of {} pairs negotiated", open.len()));
                }
            }
            _ => {}
        });
    }
}

fn rehearsed(case: &Case) -> Option<Rehearsal> {
    let actor = |end: usize| {
        let (site, facts) = (&case.job.sites[end], known::platform(case.platforms[end]));
        let (gateway, tree) = (&case.gateways[end], Some(&case.trees[end]));
        let reading = ReadGateway { name: site.name.as_str(), gateway, ends_open: facts.own_end == OwnEnd::ByAddress, tree };
        Actor { reading, behaviour: &facts.behaviour, stands: KnownAddresses { own: Some(site.own), reached: Some(site.address) } }
    };
    rehearse([actor(0), actor(1)], Some(0)).all.into_iter().next()
}

/// The words that a daemon was to log at the first failure and did not, and how many it was to.
pub fn unsaid(case: &Case, came: &Negotiation) -> (Vec<String>, usize) {
    let Some(failure) = rehearsed(case).and_then(|rehearsal| rehearsal.failures.into_iter().next()) else { return (Vec::new(), 0) };
    let wanted: Vec<(usize, &str)> = [0, 1].into_iter().filter_map(|end| Some((end, failure.logs[end].as_deref()?))).collect();
    let missing = wanted.iter().filter(|(end, words)| !came.words[*end].iter().any(|line| line.contains(words)));
    let told = |(end, words): &(usize, &str)| {
        let said: Vec<_> = came.words[*end].iter().filter(|line| !line.contains("tpm_plugin")).take(4).map(String::as_str).collect();
        format!("{} {:?} as {end}: {words}\n      {}", case.job.number, case.platforms, said.join("\n      "))
    };
    (missing.map(told).collect(), wanted.len())
}

/// Whether no verdict is given, and for what.
pub fn unknown(case: &Case) -> Option<String> {
    let rehearsal = rehearsed(case)?;
    let doubt = rehearsal.doubts.first()?;
    Some(format!("{} {:?}: cannot say, for {}", case.job.number, case.platforms, doubt.about))
}

/// What the daemons did otherwise than it was rehearsed, if anything.
pub fn disagreement(case: &Case, came: &Negotiation) -> Option<String> {
    let rehearsal = rehearsed(case);
    let rehearsal = rehearsal.as_ref().filter(|rehearsal| rehearsal.doubts.is_empty());
    if rehearsal.is_none() && unknown(case).is_some() {
        return None;
    }
    let (said, did) = (rehearsal.map(first_seen), observed(came));
    let mut wrong = Vec::new();
    if said != Some(did) {
        let word = |stage: Option<Stage>| stage.map_or("works", Stage::word);
        wrong.push(format!("rehearsed {}, came {}", said.map_or("nothing", word), word(did)));
    }
    if let (Some(rehearsal), Some(None | Some(Stage::RekeyChild | Stage::RekeyIke)), true) =
        (rehearsal, said, came.opened.0 >= came.opened.1)
    {
        for end in [0, 1] {
            let mut said: Vec<_> = rehearsal.opened.iter().flat_map(|opened| opened.selectors[end].clone()).collect();
            said.sort();
            said.dedup();
            if said != came.selectors[end] {
                wrong.push(format!("rehearsed selectors {said:?}, came {:?}", came.selectors[end]));
            }
        }
    }
    if wrong.is_empty() {
        return None;
    }
    let wire = came.messages.iter().take(12).map(|seen| format!("{}:{}:{:?}", seen.from, seen.exchange, seen.notifies));
    let words: Vec<_> = came.words.iter().flat_map(|words| words.iter().take(8)).map(|line| format!("\n      {line}")).collect();
    let reasons: Vec<_> = rehearsal.into_iter().flat_map(|rehearsal| &rehearsal.failures).map(|failure| &failure.reason).collect();
    Some(format!(
        "{} {:?}, {}: {:?}\n   {}\n   {reasons:?}\n   opened {:?}, both {}, rekeys {:?} {:?}\n   {}{}",
        case.job.number,
        case.platforms,
        case.base,
        case.changes,
        wrong.join("; "),
        came.opened,
        came.authenticated,
        came.rekeys_esp,
        came.rekeys_ike,
        wire.collect::<Vec<_>>().join(" "),
        words.concat()
    ))
}

/// The stage of the first failure that a negotiation shows: a Child SA that the responder alone has is never asked for.
fn first_seen(rehearsal: &Rehearsal) -> Option<Stage> {
    let asked_for = |failure: &&RehearsalFailure| {
        let unasked = |cause: &Cause| cause.children[rehearsal.initiator].is_none() && cause.children[1 - rehearsal.initiator].is_some();
        failure.causes.is_empty() || !failure.causes.iter().all(unasked)
    };
    // Nobody waits for what comes of a silence or of a restart.
    rehearsal.failures.iter().filter(asked_for).map(|failure| failure.stage).filter(|stage| *stage < Stage::Silence).min()
}

/// How far the daemons came; nothing where all of it works.
fn observed(came: &Negotiation) -> Option<Stage> {
    const INFORMATIONAL_V1: u8 = 5;
    const QUICK: u8 = 32;
    const INIT: u8 = 34;
    const AUTH: u8 = 35;
    const INFORMATIONAL: u8 = 37;
    /// A header, and one notification in the largest encryption of the pairs (RFC 7296 section 3.14).
    const BARE_REFUSAL: usize = 28 + 4 + 16 + 16 + 32;
    /// From here on notifications are about a status (RFC 7296 section 3.10.1).
    const STATUS: u16 = 16384;
    let said = |words: &[&str]| came.words.iter().flatten().any(|line| words.iter().any(|word| line.contains(word)));
    if came.opened.0 >= came.opened.1 {
        // Some open everything anew where a rekey is refused, so that there are new SAs all the same.
        let refused = ["ikev2_resp_create_child_sa: no proposal chosen", "no proposal chosen (CHILD SA)", "no CHILD_SA built"];
        return if came.rekeys_esp.contains(&Some(false)) || said(&refused) {
            Some(Stage::RekeyChild)
        } else {
            came.rekeys_ike.contains(&Some(false)).then_some(Stage::RekeyIke)
        };
    }
    let opener = came.messages.first().map(|seen| seen.from);
    let mut replies = came.messages.iter().filter(|seen| Some(seen.from) != opener).peekable();
    if replies.peek().is_none() {
        return Some(Stage::Answer);
    }
    let has = |exchange: u8| came.messages.iter().any(|seen| seen.exchange == exchange);
    if came.messages[0].version == 1 {
        let taken = replies.any(|seen| seen.exchange != INFORMATIONAL_V1 && seen.version == 1);
        return Some(if has(QUICK) {
            Stage::ChildSa
        } else if taken {
            Stage::Authentication
        } else {
            Stage::IkeSa
        });
    }
    let fine = |seen: &&IkeSeen| seen.version == 2 && seen.notifies.iter().all(|notify| *notify >= STATUS);
    if !has(AUTH) {
        return Some(if replies.any(|seen| fine(&seen)) { Stage::Authentication } else { Stage::IkeSa });
    }
    const CHILD: [&str; 8] = [
        "TS_UNACCEPT",
        "AUTH N(NO_PROP)",
        "response 1 [ N(NO_PROP)",
        "no CHILD_SA built",
        "keeping IKE_SA",
        "no proposal chosen (IKE SA)",
        "ikev2_ike_auth_recv: no proposal chosen",
        "connection found with compatible Traffic Selectors",
    ];
    // What the peer said of its Child SA does not matter to one that does not take it for the right peer.
    let stranger = said(&["mismatched on first found connection and no better connection found", "ikev2_send_auth_failed"]);
    // An answer that has room for a proof comes from one that believes; who does not believe that says so.
    let proven = came.messages.iter().any(|seen| Some(seen.from) != opener && seen.exchange == AUTH && seen.bytes > BARE_REFUSAL);
    let of_opener = || came.messages.iter().filter(|seen| Some(seen.from) == opener);
    // Or begins anew, and leaves the responder with SAs that it has not got itself.
    let begins_anew =
        of_opener().filter(|seen| seen.exchange == INIT).count() > 1 && came.selectors[0].is_empty() && !came.selectors[1].is_empty();
    let disbelieved = begins_anew || of_opener().any(|seen| seen.exchange == INFORMATIONAL);
    let child = (said(&CHILD) || proven && !disbelieved) && !stranger;
    Some(if came.authenticated || child { Stage::ChildSa } else { Stage::Authentication })
}

/// Random numbers that are the same for the same seed (SplitMix64).
pub struct Rng(u64);

impl From<u64> for Rng {
    fn from(seed: u64) -> Rng {
        Rng(seed)
    }
}

impl Rng {
    fn next(&mut self) -> u64 {
        self.0 = self.0.wrapping_add(0x9e37_79b9_7f4a_7c15);
        let mut z = self.0;
        z = (z ^ (z >> 30)).wrapping_mul(0xbf58_476d_1ce4_e5b9);
        z = (z ^ (z >> 27)).wrapping_mul(0x94d0_49bb_1331_11eb);
        z ^ (z >> 31)
    }

    pub fn below(&mut self, limit: usize) -> usize {
        usize::try_from(self.next() % limit as u64).expect("small")
    }

    /// Brings a list into whatever order.
    pub fn shuffle<T>(&mut self, list: &mut [T]) {
        for at in (1..list.len()).rev() {
            list.swap(at, self.below(at + 1));
        }
    }

    pub fn of<'a, T>(&mut self, list: &'a [T]) -> &'a T {
        &list[self.below(list.len())]
    }

    /// One of a list that is not this one.
    fn other<'a, T: PartialEq>(&mut self, list: &'a [T], than: &T) -> &'a T {
        loop {
            let one = self.of(list);
            if one != than {
                return one;
            }
        }
    }
}

const CBC: &str = "ike = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-512\", group = \"modp-3072\" }]\nesp = [{ encryption = \"aes-256-cbc\", integrity = \"sha2-512\" }]";
const TWO: [&str; 2] = ["office = \"10.41.0.0/22\", graders = \"10.41.8.0/24\"", "racks = \"10.73.16.0/20\", dock = \"10.73.32.0/24\""];
const KEYS: [&str; 2] = [
    "keys = { public = \"keys/packhouse.pub\", private = \"keys/packhouse.key\" }",
    "keys = { public = \"keys/coldstore.pub\", private = \"keys/coldstore.key\" }",
];
const CERTIFIED: [&str; 2] = [
    "keys = { certificate = \"keys/packhouse.crt\", issuer = \"keys/ca.crt\", private = \"keys/packhouse.key\" }",
    "keys = { certificate = \"keys/coldstore.crt\", issuer = \"keys/ca.crt\", private = \"keys/coldstore.key\" }",
];

/// What is changed.
fn bases(platforms: [&'static str; 2]) -> Vec<(&'static str, Pair)> {
    let tunnel = |words: &str| Pair { platforms, tunnel: words.to_owned(), sites: ["", ""], ..orchard() };
    let names = ["identity = { name = \"packhouse.example.net\" }", "identity = { mail = \"gate@coldstore.example.net\" }"];
    let both = ["style = \"route-based\"", "style = \"route-based\""];
    let all = vec![
        ("one proposal", tunnel(CBC)),
        ("several proposals", tunnel("")),
        ("several networks", Pair { networks: TWO, ..tunnel(CBC) }),
        ("names", Pair { sites: names, ..tunnel(CBC) }),
        ("no PFS", tunnel(&format!("{CBC}\npfs = false"))),
        ("IKEv1", tunnel(&format!("version = \"ikev1\"\n{CBC}"))),
        ("IKEv1, several networks", Pair { networks: TWO, ..tunnel(&format!("version = \"ikev1\"\n{CBC}")) }),
        ("route-based", Pair { sites: both, ..tunnel(CBC) }),
        ("public keys", Pair { sites: KEYS, ..tunnel(&format!("{CBC}\nauthentication = \"public-keys\"")) }),
        ("certificates", Pair { sites: CERTIFIED, ..tunnel(&format!("{CBC}\nauthentication = \"certificates\"")) }),
        ("hosts", Pair { networks: ["", ""], ..tunnel(&format!("{CBC}\ncarries = \"gateways\"")) }),
        ("a dynamic address", Pair { addresses: ["address = \"dynamic\"", orchard().addresses[1]], sites: names, ..tunnel(CBC) }),
    ];
    let short = |pair: Pair| Pair { tunnel: format!("esp-lifetime = \"10m\"\nike-lifetime = \"30m\"\n{}", pair.tunnel), ..pair };
    all.into_iter().map(|(name, pair)| (name, if platforms.contains(&OI) { short(pair) } else { pair })).collect()
}

type Change = (&'static str, fn(&mut Rng, &mut Gateway) -> Option<()>);

fn connection(gateway: &mut Gateway) -> Option<&mut Connection> {
    gateway.connections.first_mut()
}

fn child<'a>(rng: &mut Rng, gateway: &'a mut Gateway) -> Option<&'a mut Child> {
    let children = &mut connection(gateway)?.children;
    let at = rng.below(children.len().max(1));
    children.get_mut(at)
}

/// One of the proposals for IKE, to be changed.
fn ike<'a>(rng: &mut Rng, gateway: &'a mut Gateway) -> Option<&'a mut Proposal> {
    let list = &mut connection(gateway)?.ike_mut().proposals.value;
    let at = rng.below(list.len().max(1));
    list.get_mut(at)
}

/// All of one Child SA's proposals.
fn esp<'a>(rng: &mut Rng, gateway: &'a mut Gateway) -> Option<&'a mut Vec<Proposal>> {
    Some(&mut child(rng, gateway)?.esp.value).filter(|list| !list.is_empty())
}

const CIPHERS: [Transform; 4] =
    [Transform::encryption(12, 128), Transform::encryption(12, 192), Transform::encryption(12, 256), Transform::encryption(13, 256)];
const HASHES: [u16; 3] = [12, 13, 14];
const GROUPS: [Transform; 5] = [
    Transform::key_exchange(14),
    Transform::key_exchange(15),
    Transform::key_exchange(16),
    Transform::key_exchange(19),
    Transform::key_exchange(20),
];

/// Another cipher in a proposal, with a hash where that needs one.
fn recipher(rng: &mut Rng, proposal: &mut Proposal) -> Option<()> {
    let other = *rng.other(&CIPHERS, &proposal.first(Kind::Encryption)?);
    proposal.set(Kind::Encryption, [other]);
    if proposal.of(Kind::Integrity).is_empty() {
        proposal.set(Kind::Integrity, [Transform::integrity(14)]);
    }
    Some(())
}

/// Another group beside the first one of a proposal, before or behind.
fn regroup(rng: &mut Rng, proposal: &mut Proposal, groups: impl Fn(Transform, &[Transform]) -> Vec<Transform>) -> Option<()> {
    let other = *rng.other(&GROUPS, &proposal.first(Kind::KeyExchange)?);
    let groups = groups(other, proposal.of(Kind::KeyExchange));
    proposal.set(Kind::KeyExchange, groups);
    Some(())
}

fn net(text: &str) -> IpNet {
    text.parse().expect("a network")
}

fn set<T>(setting: &mut Setting<T>, value: T) -> Option<()> {
    *setting = Setting::planned(value);
    Some(())
}

/// Another network in place of one: beside it, around it, within it, or the whole world.
fn bent(rng: &mut Rng, one: IpNet) -> IpNet {
    let IpNet::V4(v4) = one else { return one };
    match rng.below(4) {
        0 => net("10.99.0.0/22"),
        1 => v4.supernet().map_or(one, IpNet::V4),
        2 if v4.prefix_len() < 31 => v4.subnets(v4.prefix_len() + 1).ok().and_then(|mut nets| nets.next()).map_or(one, IpNet::V4),
        _ => net("10.0.0.0/8"),
    }
}

fn renamed(rng: &mut Rng, identity: &Identity) -> Identity {
    let others = [
        Identity::Name("press.example.net".to_owned()),
        Identity::Address([203, 0, 113, 99].into()),
        Identity::Mail("gate@press.example.net".to_owned()),
    ];
    rng.other(&others, identity).clone()
}

/// Everything that can be changed in a gateway, whatever its platform.
#[rustfmt::skip]
const CHANGES: &[Change] = &[
    ("nothing", |_, _| Some(())),
    ("version", |_, g| {
        let c = connection(g)?;
        let other = if c.version() == IkeVersion::V1 { Exchange::V2 } else { Exchange::V1Main };
        set(&mut c.ike_mut().exchange, other)
    }),
    ("cipher of IKE", |r, g| { let p = ike(r, g)?; recipher(r, p) }),
    ("hash of IKE", |r, g| {
        let p = ike(r, g)?;
        let hash = *r.other(&HASHES, &p.first(Kind::Integrity)?.number);
        p.set(Kind::Integrity, [Transform::integrity(hash)]);
        p.set(Kind::Prf, [Transform::prf(hash - 7)]);
        Some(())
    }),
    ("group of IKE", |r, g| { let p = ike(r, g)?; regroup(r, p, |other, _| vec![other]) }),
    ("another group of IKE before", |r, g| { let p = ike(r, g)?; regroup(r, p, |other, known| [&[other], known].concat()) }),
    ("another group of IKE behind", |r, g| { let p = ike(r, g)?; regroup(r, p, |other, known| [known, &[other]].concat()) }),
    ("first proposal of IKE dropped", |_, g| { let list = &mut connection(g)?.ike_mut().proposals.value; (list.len() > 1).then(|| { list.remove(0); }) }),
    ("proposals of IKE turned round", |_, g| { let list = &mut connection(g)?.ike_mut().proposals.value; (list.len() > 1).then(|| list.reverse()) }),
    ("cipher of ESP", |r, g| { let list = esp(r, g)?; recipher(r, &mut list[0]) }),
    ("hash of ESP", |r, g| { let list = esp(r, g)?; let hash = *r.other(&HASHES, &list[0].first(Kind::Integrity)?.number); list[0].set(Kind::Integrity, [Transform::integrity(hash)]); Some(()) }),
    ("group of PFS", |r, g| { let list = esp(r, g)?; let other = *r.other(&GROUPS, &list[0].first(Kind::KeyExchange)?); list.iter_mut().for_each(|p| p.set(Kind::KeyExchange, [other])); Some(()) }),
    ("no PFS", |r, g| { let list = esp(r, g)?; list[0].first(Kind::KeyExchange)?; list.iter_mut().for_each(|p| p.set(Kind::KeyExchange, [])); Some(()) }),
    ("PFS", |r, g| { let list = esp(r, g)?; list[0].of(Kind::KeyExchange).is_empty().then(|| list.iter_mut().for_each(|p| p.set(Kind::KeyExchange, [Transform::key_exchange(15)]))) }),
    ("first proposal of ESP dropped", |r, g| { let list = esp(r, g)?; (list.len() > 1).then(|| { list.remove(0); }) }),
    ("proposals of ESP turned round", |r, g| { let list = esp(r, g)?; (list.len() > 1).then(|| list.reverse()) }),
    ("extended sequence numbers", |r, g| {
        let list = esp(r, g)?;
        let wide = list[0].first(Kind::SequenceNumbers)? != Transform::sequence_numbers(true);
        list.iter_mut().for_each(|p| p.set(Kind::SequenceNumbers, [Transform::sequence_numbers(wide)]));
        Some(())
    }),
    ("own network", |r, g| { let c = child(r, g)?; let other = bent(r, *c.local.value.first()?); let mut nets = c.local.value.clone(); nets[0] = other; set(&mut c.local, nets) }),
    ("peer's network", |r, g| { let c = child(r, g)?; let other = bent(r, *c.remote.value.first()?); let mut nets = c.remote.value.clone(); nets[0] = other; set(&mut c.remote, nets) }),
    ("crossed networks", |r, g| { let c = child(r, g)?; std::mem::swap(&mut c.local, &mut c.remote); Some(()) }),
    ("one more own network", |r, g| { let c = child(r, g)?; let mut nets = c.local.value.clone(); nets.push(net("10.98.0.0/24")); set(&mut c.local, nets) }),
    ("one network less", |r, g| { let c = child(r, g)?; let mut nets = c.remote.value.clone(); nets.pop(); if nets.is_empty() { return None; } set(&mut c.remote, nets) }),
    ("a pair dropped", |r, g| { let list = &mut connection(g)?.children; let at = r.below(list.len().max(1)); (list.len() > 1).then(|| { list.remove(at); }) }),
    ("a protocol alone", |r, g| { let c = child(r, g)?; c.protocol.value.is_none().then(|| c.protocol = Setting::planned(Some(6))) }),
    ("mode", |r, g| { let c = child(r, g)?; let other = if c.mode.value == Mode::Tunnel { Mode::Transport } else { Mode::Tunnel }; set(&mut c.mode, other) }),
    ("own identity", |r, g| { let c = connection(g)?; let other = renamed(r, &c.ike().local_identity.value); let old = std::mem::replace(&mut c.ike_mut().local_identity, Setting::planned(other.clone())).value; follow(g, &old, &other) }),
    ("peer's identity", |r, g| { let c = connection(g)?; let other = renamed(r, &c.ike().remote_identity.value); let old = std::mem::replace(&mut c.ike_mut().remote_identity, Setting::planned(other.clone())).value; follow(g, &old, &other) }),
    ("own identity, not in the secrets", |r, g| { let c = connection(g)?; if c.ike().local_method.value != Method::SharedSecret { return None; } let other = renamed(r, &c.ike().local_identity.value); set(&mut c.ike_mut().local_identity, other) }),
    ("secret", |_, g| { g.secrets.first_mut()?.secret = Secret::new(b"another-secret-that-nobody-else-has".to_vec()); Some(()) }),
    ("no secret", |_, g| (!g.secrets.is_empty()).then(|| g.secrets.clear())),
    ("authority", |_, g| (!g.authorities.is_empty()).then(|| g.authorities.clear())),
    ("peer elsewhere", |_, g| { let c = connection(g)?; set(&mut c.remote, Endpoint::At([203, 0, 113, 200].into())) }),
    ("peer anywhere", |_, g| { let c = connection(g)?; set(&mut c.remote, Endpoint::Anywhere) }),
    ("own address open", |_, g| { let c = connection(g)?; set(&mut c.local, Endpoint::Anywhere) }),
    ("life of IKE", |_, g| { let c = connection(g)?; let half = c.ike().lifetime.value.hard / 2; set(&mut c.ike_mut().lifetime, Lifetime::with_tenth(half)) }),
    ("life of ESP", |r, g| { let c = child(r, g)?; let half = c.lifetime.value.hard / 2; set(&mut c.lifetime, Lifetime::with_tenth(half)) }),
    ("liveness", |_, g| { let c = connection(g)?; set(&mut c.ike_mut().liveness, None) }),
    ("replay window", |r, g| { let c = child(r, g)?; set(&mut c.replay_window, 64) }),
    ("DSCP", |r, g| { let c = child(r, g)?; set(&mut c.dscp, Dscp::Both) }),
    ("ESP in UDP forced", |_, g| { let c = connection(g)?; set(&mut c.encapsulation, Encapsulation::Forced) }),
    ("ESP in UDP never", |_, g| { let c = connection(g)?; set(&mut c.encapsulation, Encapsulation::Off) }),
];

/// Secrets and keys go with a changed identity.
fn follow(gateway: &mut Gateway, old: &Identity, new: &Identity) -> Option<()> {
    for secret in &mut gateway.secrets {
        let named = secret.identities.iter().map(|identity| if identity == old { new.clone() } else { identity.clone() });
        *secret = SharedSecret::between(named.collect::<Vec<_>>(), secret.secret.clone());
    }
    gateway.key_pairs.iter_mut().filter(|pair| pair.identity == *old).for_each(|pair| pair.identity = new.clone());
    gateway.pinned.iter_mut().filter(|key| key.identity == *old).for_each(|key| key.identity = new.clone());
    Some(())
}

/// Statements that a configuration can do without, so that a default holds in their place.
#[rustfmt::skip]
const OPTIONAL: &[(&str, &[&str])] = &[
    (SS, &["proposals", "esp_proposals", "rekey_time", "over_time", "life_time", "dpd_delay", "replay_window", "mode", "encap", "local_addrs",
        "remote_addrs", "version", "id", "copy_dscp", "mobike", "keyingtries"]),
    (LSW, &["ike", "esp", "pfs", "type", "esn", "ikelifetime", "salifetime", "rekeymargin", "rekeyfuzz", "dpddelay", "replay-window",
        "leftid", "rightid", "ikev2", "authby", "keyingtries", "mobike", "encapsulation"]),
    (OI, &["ikesa", "childsa", "srcid", "local"]),
];

/// Leaves a statement of a connection out; says which.
fn left_out(rng: &mut Rng, word: &str, tree: &mut Tree) -> Option<String> {
    let (_, keys) = OPTIONAL.iter().find(|(platform, _)| *platform == word)?;
    let (_, file) = tree.files.iter_mut().find(|(path, _)| path.ends_with("harvest.conf"))?;
    let key_of = |line: &str| line.trim().split([' ', '=']).next().map(str::to_owned);
    let lines: Vec<&str> = file.text.lines().collect();
    let able: Vec<usize> =
        lines.iter().enumerate().filter(|(_, line)| key_of(line).is_some_and(|key| keys.contains(&key.as_str()))).map(|(i, _)| i).collect();
    let out = *able.get(rng.below(able.len().max(1)))?;
    let what = lines[out].trim().to_owned();
    let text: String = lines.iter().enumerate().filter(|(i, _)| *i != out).map(|(_, line)| format!("{line}\n")).collect();
    file.text = text;
    Some(format!("without `{what}`"))
}

/// Whether files are as this program writes them, or as hands do.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Spelling {
    Written,
    ByHand,
}

/// Changed pairs, the same ones for the same seed.
pub fn cases(seed: u64, count: usize, spelling: Spelling) -> Vec<Case> {
    let supplied = supplied();
    (0..count).map(|number| case(seed, number, &supplied, spelling)).collect()
}

fn case(seed: u64, number: usize, supplied: &Supplied, spelling: Spelling) -> Case {
    let mut rng = Rng(seed.wrapping_mul(0x1_0000_0001).wrapping_add(number as u64));
    loop {
        let platforms = *rng.of(&ordered_pairs());
        let bases = bases(platforms);
        let (base, pair) = rng.of(&bases);
        let (description, findings) = Description::parse(&Source::new("pair.span.toml", pair.text().as_str()), known::context());
        let mut built = build(&description, supplied);
        if findings.iter().chain(&built.findings).any(|finding| finding.rule.severity == uspan_core::Severity::Error) {
            continue;
        }
        let mut changes = Vec::new();
        let wanted = *rng.of(&[1, 1, 1, 2, 2, 3]);
        let mut tries = 0;
        while changes.len() < wanted && tries < 20 {
            tries += 1;
            let end = rng.below(2);
            let site = ["packhouse", "coldstore"][end];
            let tree = built.trees.get_mut(site).expect("a tree");
            let what = if rng.below(4) == 0 {
                left_out(&mut rng, platforms[end], tree)
            } else {
                // Each kind of change comes first by turns, so that none is left out.
                let (name, change) = if changes.is_empty() && tries < 8 { CHANGES[number % CHANGES.len()] } else { *rng.of(CHANGES) };
                rewritten(&mut rng, platforms[end], tree, change).map(|()| name.to_owned())
            };
            if let Some(what) = what {
                changes.push(format!("{site}: {what}"));
            }
        }
        if changes.is_empty() {
            continue;
        }
        if spelling == Spelling::ByHand {
            for (end, site) in ["packhouse", "coldstore"].into_iter().enumerate() {
                let tree = built.trees.get_mut(site).expect("a tree");
                changes.extend(hand::respelled(&mut rng, platforms[end], tree).iter().map(|what| format!("{site}: {what}")));
            }
        }
        let trees = ["packhouse", "coldstore"].map(|site| built.trees[site].clone());
        let read = [0, 1].map(|end| known::read_as(known::platform(platforms[end]), &trees[end]));
        let gateways = read.map(|(gateway, _)| gateway);
        let mut job = cast(&description, &built, &built.trees.clone(), &BTreeMap::new(), &[], |_| true);
        job.number = number;
        job.depth = Depth::Negotiation;
        // What the initiator does not have it does not open.
        let own: Vec<_> = gateways[0].connections.iter().flat_map(|c| &c.children).map(|child| child.name.clone()).collect();
        job.tunnels[0].pairs.retain(|pair| own.contains(&pair.child));
        return Case { platforms, base, changes, gateways, trees, job };
    }
}

/// Changes a gateway and writes it again; nothing where its platform cannot say that.
fn rewritten(rng: &mut Rng, word: &str, tree: &mut Tree, change: fn(&mut Rng, &mut Gateway) -> Option<()>) -> Option<()> {
    let platform = known::platform(word);
    let (mut gateway, _) = known::read_as(platform, tree);
    let before = gateway.clone();
    change(rng, &mut gateway)?;
    let written = platform.write(&gateway, &Remarks { stem: "harvest".to_owned(), ..Remarks::default() }).ok()?;
    let mut after = tree.clone();
    after.files.extend(written.files);
    // A change that is not in the files is none.
    let (read, _) = known::read_as(platform, &after);
    if read == before && gateway != before {
        return None;
    }
    *tree = after;
    Some(())
}
