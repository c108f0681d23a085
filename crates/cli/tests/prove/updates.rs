//! Gateways take up what a changed description says while packets cross: what was promised is held against what happened.

use std::collections::BTreeMap;

use uspan_core::{Build, DeliveredFile, Description, Interruption, Programs, SecretFile, Source, Supplied, build, changes, deliveries};
use uspan_lab::{Depth, Event, Job, SiteFile, SiteUpdate, StandingFiles, UpdateSeen, UpdateStep, cast};

use crate::known;
use crate::suite::OI;

/// A change of a description: what it is called, lines of the first site, of the tunnel and of the second site before, and the same after.
pub struct Alteration {
    /// In words, with the key of the language.
    pub what: &'static str,
    before: [&'static str; 3],
    after: [&'static str; 3],
}

const fn tunnel(what: &'static str, before: &'static str, after: &'static str) -> Alteration {
    Alteration { what, before: ["", before, ""], after: ["", after, ""] }
}

const fn site(what: &'static str, after: &'static str) -> Alteration {
    Alteration { what, before: ["", "", ""], after: [after, "", ""] }
}

/// Both sites steer by routes, before and after.
const fn routed(what: &'static str, after: &'static str) -> Alteration {
    const STYLE: &str = "style = \"route-based\"";
    Alteration { what, before: [STYLE, "", STYLE], after: [STYLE, after, STYLE] }
}

/// Each kind of change that there is.
pub static ALTERATIONS: &[Alteration] = &[
    tunnel("ike-lifetime", "", "ike-lifetime = \"6h\""),
    tunnel("esp-lifetime", "", "esp-lifetime = \"2h\""),
    tunnel("liveness", "", "liveness = \"1m\""),
    tunnel("ike", "", "ike = [{ encryption = \"aes-128-gcm-16\", prf = \"hmac-sha2-256\", group = \"ecp-256\" }]"),
    tunnel("esp", "", "esp = [{ encryption = \"aes-128-gcm-16\" }]"),
    tunnel("pfs", "", "pfs = \"ecp-256\""),
    tunnel("secret", "", "# another"),
    tunnel("carries, one more", "carries = [[\"office\", \"racks\"]]", "carries = [[\"office\", \"racks\"], [\"office\", \"cellar\"]]"),
    tunnel("carries, one less", "carries = [[\"office\", \"racks\"], [\"office\", \"cellar\"]]", "carries = [[\"office\", \"racks\"]]"),
    tunnel("services", "", "services = [\"ping\", \"https\"]"),
    tunnel("one-way", "", "one-way = \"packhouse\""),
    tunnel("logs-drops", "", "logs-drops = true"),
    tunnel("not-carried", "carries = [[\"office\", \"racks\"]]", "carries = [[\"office\", \"racks\"]]\nnot-carried = \"left-alone\""),
    tunnel("initiator", "", "initiator = \"coldstore\""),
    tunnel("opens", "", "opens = \"on-traffic\""),
    tunnel("nat-traversal", "", "nat-traversal = \"forced\""),
    tunnel("replay-window", "", "replay-window = 256"),
    tunnel("extended-sequence-numbers", "", "extended-sequence-numbers = true"),
    tunnel("copies-dscp", "", "copies-dscp = \"never\""),
    tunnel("appears-as", "", "appears-as = { office = \"10.99.0.0/22\" }"),
    tunnel("path-mtu", "", "path-mtu = 1400"),
    routed("path-mtu, route-based", "path-mtu = 1400"),
    tunnel("note", "", "note = \"apples\""),
    site("style", "style = \"route-based\""),
    site("filter", "filter = \"joined\""),
    site("identity", "identity = { name = \"packhouse.example.net\" }"),
    site("shares-internet", "shares-internet = true"),
];

/// The names of the two gateways.
const ENDS: [&str; 2] = ["packhouse", "coldstore"];

fn text(platforms: [&str; 2], [first, tunnel, second]: [&str; 3]) -> String {
    // Not all of them can reopen several pairs by themselves.
    let one = if platforms.contains(&OI) && !tunnel.contains("carries") { "carries = [[\"office\", \"racks\"]]" } else { "" };
    format!(
        "unified-span = 1\n[site.packhouse]\nplatform = \"{}\"\ngateway = {{ address = \"198.51.100.20\", outside = \"wan0\", inside = \"lan0\" }}\n\
         networks = {{ office = \"10.41.0.0/22\" }}\n{first}\n[site.coldstore]\nplatform = \"{}\"\n\
         gateway = {{ address = \"203.0.113.77\", outside = \"eth0\", inside = \"eth1\" }}\nnetworks = {{ racks = \"10.73.16.0/20\", cellar = \"10.74.0.0/24\" }}\n{second}\n\
         [tunnel.harvest]\nbetween = [\"packhouse\", \"coldstore\"]\nsecret = {{ file = \"{}\" }}\n{tunnel}\n{one}\n",
        platforms[0],
        platforms[1],
        if tunnel.starts_with('#') { "other" } else { "k" },
    )
}

/// A built description; or the code of what stops it.
fn built(text: &str) -> Result<(Description, Build), &'static str> {
    let (description, findings) = Description::parse(&Source::new("x.span.toml", text), known::context());
    let mut supplied = Supplied::default();
    for (file, secret) in [("k", crate::SECRET.to_owned()), ("other", crate::SECRET.chars().rev().collect())] {
        let secret = uspan_core::Secret::new(secret.into_bytes());
        supplied.secrets.insert(file.to_owned(), SecretFile::Read { secret, guesses_log10: 30.0, drawn: true, exposed: false });
    }
    let built = build(&description, &supplied);
    let mut stops = findings.iter().chain(&built.findings).filter(|finding| finding.rule.severity == uspan_core::Severity::Error);
    if let Some(stop) = stops.next() {
        assert!(!["US1", "US2"].iter().any(|code| stop.rule.code.starts_with(code)), "{stop:#?}\n{text}");
        return Err(stop.rule.code);
    }
    Ok((description, built))
}

/// What a user is told of a change at a gateway.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub enum Promise {
    /// SAs go on, and no packet is lost.
    Nothing,
    /// The tunnel's SAs end, and are opened anew.
    ItsTunnel,
    /// All tunnels of the gateway are interrupted.
    AllTunnels,
}

impl Promise {
    pub fn words(self) -> &'static str {
        match self {
            Promise::Nothing => "nothing",
            Promise::ItsTunnel => "the tunnel",
            Promise::AllTunnels => "all tunnels",
        }
    }
}

/// A change that was tried.
pub struct Tried {
    pub platforms: [&'static str; 2],
    pub what: &'static str,
    /// What was promised of each gateway; nothing where it has nothing to take up.
    pub promised: [Option<Promise>; 2],
    pub seen: Vec<UpdateSeen>,
}

impl Tried {
    /// What was promised of what was done at some gateways.
    fn promised_of(&self, seen: &UpdateSeen) -> Promise {
        let of = |name: &String| ENDS.iter().position(|end| end == name).and_then(|end| self.promised[end]);
        seen.sites.iter().filter_map(of).max().unwrap_or(Promise::Nothing)
    }

    /// Where what happened is not what was promised.
    pub fn wrong(&self) -> Vec<String> {
        self.seen
            .iter()
            .filter_map(|seen| Some(format!("{:?} {}: {}: {seen:?}", self.platforms, self.what, self.wrong_in(seen)?)))
            .collect()
    }

    fn wrong_in(&self, seen: &UpdateSeen) -> Option<&'static str> {
        // A boot ends everything for a while, and so does a way back that began with the update.
        let promised = match seen.step {
            UpdateStep::Reboot => Promise::AllTunnels,
            _ => self.promised_of(seen),
        };
        let most = if promised == Promise::Nothing { 0 } else { LONGEST };
        let stands = match seen.step {
            UpdateStep::Forth | UpdateStep::Reboot => seen.stands == StandingFiles::New,
            UpdateStep::Back | UpdateStep::Unconfirmed => seen.stands == StandingFiles::Old,
            UpdateStep::Killed => seen.stands != StandingFiles::Mixed,
        };
        match () {
            () if seen.wrong.is_some() => Some("it does not work afterwards"),
            () if !stands => Some("other files stand there"),
            () if seen.step != UpdateStep::Reboot && seen.longest_gap > most => Some("it interrupts for longer than was promised"),
            () if promised == Promise::Nothing && !seen.ike_kept => Some("its IKE SA was to stay"),
            () => None,
        }
    }
}

/// In milliseconds: the longest that a tunnel may be down where it is said that it is interrupted.
const LONGEST: u64 = 15_000;

/// The job of a change between two platforms, and what is promised of each gateway.
fn job(number: usize, platforms: [&str; 2], alteration: &Alteration, kills: u32) -> Result<(Job, [Option<Promise>; 2]), &'static str> {
    let (description, old) = built(&text(platforms, alteration.before))?;
    let (later, new) = built(&text(platforms, alteration.after))?;
    let mut job = cast(&description, &old, &old.trees, &BTreeMap::new(), &[], |_| true);
    job.number = number;
    job.depth = Depth::Update;
    let pairs = [&old, &new].map(|built| built.tunnels[0].gateways[0].connections[0].children.len()).into_iter().min().unwrap_or(1);
    let pairs = pairs.min(job.tunnels[0].pairs.len());
    let mut promised = [None, None];
    for delivery in deliveries(&later, &new.tunnels, &old.trees, &new.trees, known::context()) {
        let site = delivery.site;
        let end = ENDS.iter().position(|name| *name == site.name.value).expect("an end");
        if delivery.steps.is_empty() {
            continue;
        }
        promised[end] = delivery.steps.iter().map(|step| promise(step.interrupts)).max();
        let (before, now) = (&old.trees[ENDS[end]], &new.trees[ENDS[end]]);
        let files = now.files.iter().map(|(path, file)| DeliveredFile::of(path, file)).collect();
        let program = Programs::default().of(site, files).expect("ours").text.clone();
        let files = now.files.iter().map(|(path, file)| SiteFile { path: path.clone(), private: file.private, text: file.text.clone() });
        let together = changes(site, before, now, known::context()).iter().any(|change| change.both_ends);
        let place = job.sites.iter().position(|site| site.name == ENDS[end]).expect("there");
        job.sites[place].update = Some(SiteUpdate { files: files.collect(), program, pairs, together, kills });
    }
    Ok((job, promised))
}

fn promise(interruption: Interruption) -> Promise {
    match interruption {
        Interruption::Nothing => Promise::Nothing,
        Interruption::ItsTunnels | Interruption::OpenedTunnels => Promise::ItsTunnel,
        Interruption::AllTunnels | Interruption::AllSessions => Promise::AllTunnels,
    }
}

/// Tries alterations between platforms.
pub fn tried(pairs: &[[&'static str; 2]], wanted: &[&Alteration], kills: u32) -> Vec<Tried> {
    let mut jobs = Vec::new();
    let mut all: Vec<Tried> = Vec::new();
    for platforms in pairs {
        for alteration in wanted {
            match job(jobs.len(), *platforms, alteration, kills) {
                Ok((job, promised)) if job.sites.iter().any(|site| site.update.is_some()) => {
                    jobs.push(job);
                    all.push(Tried { platforms: *platforms, what: alteration.what, promised, seen: Vec::new() });
                }
                Ok(_) => crate::say(&format!("{platforms:?} {}: nothing changes", alteration.what)),
                Err(code) => crate::say(&format!("{platforms:?} {}: {code}", alteration.what)),
            }
        }
    }
    let mut broken = Vec::new();
    crate::perform(jobs, std::env::var_os("USPAN_KEEP").map(Into::into), &mut |event| match event {
        Event::Updated { job, seen } => all[job].seen.push(seen),
        Event::Broken { job, how } => broken.push((job, how)),
        _ => {}
    });
    let broken: Vec<_> = broken.into_iter().map(|(job, how)| format!("{:?} {}: {how}", all[job].platforms, all[job].what)).collect();
    assert_eq!(broken, Vec::<String>::new());
    all
}
