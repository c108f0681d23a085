//! The proof of a job: every check, in order, on a stage with real daemons.

mod negotiating;
mod opening;
mod rekeying;
mod retiring;
mod returning;
mod taking_over;
mod traffic;
mod updating;

use std::fs::File;
use std::io::{self, Write as _};
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::thread::sleep;
use std::time::{Duration, Instant};

use ipnet::IpNet;

use crate::daemon::router::{Router, RouterTalk};
use crate::daemon::{Daemon, Running, complains, daemon};
use crate::flow::Target;
use crate::job::{Check, CheckRow, Depth, Event, Job, JobOpening, JobPair, JobTunnel, Outcome};
use crate::stage::room::Room;
use crate::stage::services;
use crate::stage::{Machine, StagedGateway, Testbed};
use crate::witness::{ProtectedPacket, Witness};

/// Where the lab finds and leaves things.
#[derive(Clone, Debug)]
pub struct SitePlaces {
    /// What was unpacked.
    pub cache: PathBuf,
    /// For what only this run needs.
    pub state: PathBuf,
    /// Logs and captures.
    pub logs: PathBuf,
    /// Whether waiting costs nothing, because time passes at once while nothing is to be done.
    pub waits_freely: bool,
}

/// How long a tunnel may take to come up.
const OPENING: Duration = Duration::from_secs(60);
/// Longer than a NAT device remembers a UDP mapping: Linux does for two minutes (nf_conntrack_udp_timeout_stream), and two are the
/// least that RFC 4787 section 4.3 asks for.
const QUIET: Duration = Duration::from_secs(300);
/// How long a routing session may take: it tries every ten seconds.
const LEARNING: Duration = Duration::from_secs(90);
/// How long new keys may take.
const REKEYING: Duration = Duration::from_secs(30);
/// How long a daemon may take to give a dead peer up, beside its liveness interval: strongSwan retransmits for 165 s
/// (strongswan.conf(5)), and as long again for a first try to reopen into the void; OpenIKED believes in a peer for
/// 300 s after its last packet, retransmits for 126 s and tries to reopen every 60 s.
const GIVING_UP: Duration = Duration::from_secs(600);

/// Asks again and again until there is an answer or the time is up: often at first, then ever less.
fn wait_for<T>(limit: Duration, mut ask: impl FnMut() -> io::Result<Option<T>>) -> io::Result<Option<T>> {
    let (since, mut pause) = (Instant::now(), Duration::from_millis(150));
    loop {
        if let Some(answer) = ask()? {
            return Ok(Some(answer));
        }
        if since.elapsed() >= limit {
            return Ok(None);
        }
        sleep(pause);
        pause = (pause * 5 / 4).min(limit / 100 + Duration::from_secs(3));
    }
}

/// Proves a job and tells what comes of it.
///
/// # Errors
/// When the lab itself fails: a namespace, a file, a program that cannot be run.
pub fn prove(job: &Job, places: &SitePlaces, tell: &mut dyn FnMut(Event)) -> io::Result<()> {
    let mut standing = job.clone();
    let installs = matches!(job.depth, Depth::Proof | Depth::Keys | Depth::Update);
    for site in &mut standing.sites {
        // Elsewhere the files stand there, whatever they say. The administrator here takes chains in, and his router sessions, before
        // a program runs.
        if !installs || site.joined || !site.routing.is_empty() {
            site.program = None;
        }
    }
    let job = &standing;
    tell(Event::Now { job: job.number, doing: "laying out the networks".to_owned() });
    let stage = Testbed::set(job, &places.state)?;
    let own = job.sites.iter().flat_map(|site| site.networks.iter().map(|(_, net)| *net));
    let pairs = || job.tunnels.iter().flat_map(|tunnel| &tunnel.pairs);
    let (between, behind): (Vec<&JobPair>, Vec<&JobPair>) = pairs().partition(|pair| pair.networks.is_none());
    let protected = ProtectedPacket {
        nets: own.chain(behind.iter().flat_map(|pair| pair.seen)).collect(),
        gateways: between.iter().map(|pair| pair.seen.map(|net| net.addr())).collect(),
    };
    let witness = Witness::watch(&stage.internet, protected, &places.logs.join("internet.pcap"))?;
    let mut proof = Proof { job, places, stage: &stage, witness: &witness, running: Vec::new(), routers: Vec::new(), tell };
    let files = proof.start()?;
    if job.depth != Depth::Proof {
        for number in 0..job.tunnels.len() {
            let mut walk = Walkthrough { proof: &mut proof, number, failed: false, since: Vec::new() };
            match job.depth {
                Depth::Keys => walk.keyed(&files)?,
                Depth::Flows => walk.try_flows()?,
                Depth::Takeover => walk.take_over()?,
                Depth::Update => walk.update()?,
                _ => walk.negotiate(&files)?,
            }
        }
        return Ok(());
    }
    let mut failed = Vec::new();
    for number in 0..job.tunnels.len() {
        let mut walk = Walkthrough { proof: &mut proof, number, failed: false, since: Vec::new() };
        walk.alive(&files)?;
        failed.push(walk.failed);
    }
    for (number, failed) in failed.iter_mut().enumerate() {
        let mut walk = Walkthrough { proof: &mut proof, number, failed: *failed, since: Vec::new() };
        walk.onward()?;
        *failed = walk.failed;
    }
    let mut gone = Vec::new();
    // A gateway that loses power takes all its tunnels along, so this comes last.
    for (number, failed) in failed.into_iter().enumerate() {
        let mut walk = Walkthrough { proof: &mut proof, number, failed, since: Vec::new() };
        walk.returns()?;
        gone.push(walk.failed);
    }
    for (number, failed) in gone.into_iter().enumerate() {
        Walkthrough { proof: &mut proof, number, failed, since: Vec::new() }.retire()?;
    }
    proof.warnings()
}

struct Proof<'a> {
    job: &'a Job,
    places: &'a SitePlaces,
    stage: &'a Testbed,
    witness: &'a Witness,
    running: Vec<Running>,
    /// The routing daemons of each gateway that has sessions.
    routers: Vec<Option<Router>>,
    tell: &'a mut dyn FnMut(Event),
}

impl Proof<'_> {
    fn now(&mut self, doing: String) {
        (self.tell)(Event::Now { job: self.job.number, doing });
    }

    fn daemon(&self, site: usize) -> io::Result<&'static dyn Daemon> {
        let word = &self.job.sites[site].platform;
        daemon(word).ok_or_else(|| io::Error::other(format!("the lab has no daemon for the platform `{word}`")))
    }

    fn log(&self, site: usize) -> PathBuf {
        self.places.logs.join(format!("{}.log", self.job.sites[site].name))
    }

    /// Starts the routing daemons where there are sessions.
    fn start_router(gateway: &StagedGateway) -> io::Result<(Option<Router>, RouterTalk)> {
        if gateway.site.routing.is_empty() {
            return Ok((None, Vec::new()));
        }
        let (router, said) = Router::start(gateway)?;
        Ok((Some(router), said))
    }

    /// Takes up what each gateway is to have, and starts the daemons: those that only answer first, so that the others find them ready.
    /// Returns what each site's programs made of its files.
    fn start(&mut self) -> io::Result<Vec<Outcome>> {
        let mut outcomes = Vec::new();
        for (i, gateway) in self.stage.gateways.iter().enumerate() {
            self.daemon(i)?.furnish(gateway, &self.places.cache)?;
            if gateway.site.program.is_some() {
                self.routers.push(None);
                outcomes.push(Outcome::pass());
                continue;
            }
            // Those of a takeover come with the new files.
            let rules = if gateway.site.takeover.is_some() { Vec::new() } else { gateway.load_rules()? };
            let (router, more) = Self::start_router(gateway)?;
            self.routers.push(router);
            let rules: Vec<_> = rules.into_iter().chain(more).collect();
            let refused = rules.iter().find(|(_, said)| !said.fine || !said.text.is_empty());
            outcomes.push(refused.map_or_else(Outcome::pass, |(path, said)| Outcome::Fail(format!("{path}: {}", said.text.trim()))));
        }
        let mut order: Vec<usize> = (0..self.job.sites.len()).collect();
        order.sort_by_key(|site| {
            let opens = self.job.tunnels.iter().flat_map(|tunnel| tunnel.ends.iter().zip(&tunnel.opens));
            opens.filter(|(end, _)| *end == site).any(|(_, opens)| *opens == JobOpening::AtOnce)
        });
        let mut running: Vec<Option<Running>> = self.job.sites.iter().map(|_| None).collect();
        for site in order {
            let name = &self.job.sites[site].name;
            self.now(format!("starting {} on {name}", self.job.sites[site].platform));
            let started = match self.job.sites[site].program {
                Some(_) => self.take_up(site, &mut outcomes[site])?,
                None => self.daemon(site)?.start(&self.stage.gateways[site], &self.log(site))?,
            };
            for (command, said) in &started.loaders {
                let bad = said.text.lines().find(|line| complains(line)).map(str::to_owned);
                let bad = bad.or_else(|| (!said.fine).then(|| said.text.trim().to_owned()));
                if let (Some(line), Outcome::Pass(_)) = (bad, &outcomes[site]) {
                    outcomes[site] = Outcome::Fail(format!("{command}: {line}"));
                }
            }
            running[site] = Some(started);
        }
        self.running = running.into_iter().flatten().collect();
        Ok(outcomes)
    }

    /// Runs the program that the gateway was given, which starts the daemon.
    fn take_up(&mut self, site: usize, outcome: &mut Outcome) -> io::Result<Running> {
        let (gateway, daemon, log) = (&self.stage.gateways[site], self.daemon(site)?, self.log(site));
        if !gateway.site.routing.is_empty() {
            let (router, said) = Router::begin(gateway)?;
            if let Some((what, said)) = said.iter().find(|(_, said)| !said.fine) {
                *outcome = Outcome::Fail(format!("{what}: {}", said.text.trim()));
            }
            self.routers[site] = Some(router);
            services::mark_active(gateway, "frr")?;
        }
        let mut started = None;
        let printed = self.places.logs.join(format!("{}.take-up", gateway.site.name));
        let (fine, text) = services::run_program(gateway, &printed, "--replace", |verb, _| {
            match verb {
                "start" | "restart" => {
                    // The old one ends before the new one begins.
                    drop(started.take());
                    started = Some(daemon.start(gateway, &log)?);
                }
                "stop" => started = None,
                _ => {}
            }
            Ok(true)
        })?;
        let complaint = complaint(&text, &gateway.site.name);
        if !fine || complaint.contains(" says: ") {
            *outcome = Outcome::Fail(format!("{}: {complaint}", uspan_core::PROGRAM));
        }
        if fine {
            gateway.rules_loaded()?;
        }
        started.map_or_else(|| daemon.start(gateway, &log), Ok)
    }

    /// What the daemons' logs complain of, each text once; also into a file among the logs.
    fn warnings(&mut self) -> io::Result<()> {
        let mut file = File::create(self.places.logs.join("warnings"))?;
        for (site, running) in self.job.sites.iter().zip(&self.running) {
            let mut known = std::collections::BTreeSet::new();
            for line in running.lines().into_iter().filter(|line| complains(line)) {
                let text = without_numbers(&line);
                if known.insert(text) {
                    writeln!(file, "{}: {line}", site.name)?;
                    (self.tell)(Event::Warning { job: self.job.number, site: site.name.clone(), line });
                }
            }
        }
        Ok(())
    }
}

/// The first thing that a gateway's program complains of, with some of what a command said of it.
fn complaint(text: &str, site: &str) -> String {
    let own = format!("{site}: ");
    let lines = text.lines().skip_while(|line| !line.starts_with(&own) || line.ends_with(": taken up"));
    let mut lines = lines.scan(true, |first, line| (std::mem::take(first) || line.starts_with(' ')).then_some(line));
    let head = lines.next().unwrap_or_default().to_owned();
    let few: Vec<&str> = lines.by_ref().take(3).map(str::trim).collect();
    head + " " + &few.join("; ") + if lines.next().is_some() { "; …" } else { "" }
}

/// A line without its digits, to know it again.
fn without_numbers(line: &str) -> String {
    line.chars().filter(|c| !c.is_ascii_hexdigit()).collect()
}

/// The checks of one tunnel.
struct Walkthrough<'p, 'a> {
    proof: &'p mut Proof<'a>,
    number: usize,
    /// Whether something failed that leaves later checks without ground.
    failed: bool,
    /// How far the daemons' logs had come at the start of the check.
    since: Vec<usize>,
}

impl<'a> Walkthrough<'_, 'a> {
    /// Everything that both ends do while they are alive.
    fn alive(&mut self, files: &[Outcome]) -> io::Result<()> {
        self.taken_up(files);
        self.open()?;
        self.learned()?;
        self.traffic()?;
        self.outsiders()?;
        self.services()?;
        self.internet();
        self.rekey_esp()?;
        self.rekey_ike()?;
        self.quiet()
    }

    /// What algorithms decide.
    fn keyed(&mut self, files: &[Outcome]) -> io::Result<()> {
        self.taken_up(files);
        self.open()?;
        self.traffic()?;
        self.rekey_esp()?;
        self.rekey_ike()
    }

    /// Tells what the loaders made of both ends' files.
    fn taken_up(&mut self, files: &[Outcome]) {
        let ends = self.tunnel().ends;
        self.begin("");
        self.row(Check::Files, "", ends.map(|site| files[site].clone()));
    }

    fn tunnel(&self) -> &'a JobTunnel {
        &self.proof.job.tunnels[self.number]
    }

    fn site(&self, end: usize) -> usize {
        self.tunnel().ends[end]
    }

    fn site_name(&self, end: usize) -> &'a str {
        &self.proof.job.sites[self.site(end)].name
    }

    fn gateway(&self, end: usize) -> &'a StagedGateway {
        &self.proof.stage.gateways[self.site(end)]
    }

    fn daemon(&self, end: usize) -> io::Result<&'static dyn Daemon> {
        self.proof.daemon(self.site(end))
    }

    fn children(&self) -> Vec<&'a str> {
        let tunnel = self.tunnel();
        let mut children: Vec<_> = tunnel.pairs.iter().map(|pair| pair.child.as_str()).collect();
        children.dedup();
        // Without hosts that could reach each other there is a tunnel all the same.
        if children.is_empty() { tunnel.children.iter().map(String::as_str).collect() } else { children }
    }

    /// The hosts of a pair of networks: at this end, at the other.
    fn hosts(&self, pair: usize, end: usize) -> Option<[&'a Machine; 2]> {
        let tunnel = self.tunnel();
        let networks = tunnel.pairs[pair].networks?;
        Some([end, 1 - end].map(|end| &self.proof.stage.hosts[tunnel.ends[end]][networks[end]]))
    }

    /// A flow between a pair's hosts, or between the gateways, from this end to the other.
    fn ends(&self, pair: usize, end: usize) -> (&'a Room, Target<'a>) {
        match self.hosts(pair, end) {
            Some([from, to]) => (&from.room, Target { room: &to.room, own: to.host.address, seen: self.address(pair, 1 - end) }),
            None => (&self.gateway(end).room, Target::plain(&self.gateway(1 - end).room, self.address(pair, 1 - end))),
        }
    }

    /// The address of a pair's host at an end, as it is seen from the other end: at its place in the network.
    fn address(&self, pair: usize, end: usize) -> IpAddr {
        let tunnel = self.tunnel();
        let Some([machine, _]) = self.hosts(pair, end) else { return tunnel.pairs[pair].seen[end].addr() };
        let host = &machine.host;
        match (host.address, host.net, tunnel.pairs[pair].seen[end]) {
            // All of them stand behind it.
            (_, net, seen) if seen.prefix_len() > net.prefix_len() => seen.addr(),
            (IpAddr::V4(at), IpNet::V4(net), IpNet::V4(seen)) => {
                IpAddr::V4((u32::from(at) - u32::from(net.network()) + u32::from(seen.network())).into())
            }
            (IpAddr::V6(at), IpNet::V6(net), IpNet::V6(seen)) => {
                IpAddr::V6((u128::from(at) - u128::from(net.network()) + u128::from(seen.network())).into())
            }
            (at, ..) => at,
        }
    }

    fn pair_name(&self, pair: usize) -> String {
        let (job, tunnel) = (self.proof.job, self.tunnel());
        let name = |end: usize| {
            let site = &job.sites[tunnel.ends[end]];
            tunnel.pairs[pair].networks.map_or(site.name.as_str(), |networks| site.networks[networks[end]].0.as_str())
        };
        format!("{}, {}", name(0), name(1))
    }

    /// Begins a check: from here on the daemons' words count for it.
    fn begin(&mut self, doing: &str) {
        self.since = self.proof.running.iter().map(|running| running.lines().len()).collect();
        if !doing.is_empty() {
            let text = format!("{}: {doing}", self.tunnel().name);
            self.proof.now(text);
        }
    }

    /// Tells what came of a check.
    fn row(&mut self, check: Check, about: &str, ends: [Outcome; 2]) {
        let failed = ends.iter().any(Outcome::failed);
        let words = if failed && check != Check::Files { self.words() } else { Vec::new() };
        if failed && !self.failed {
            self.note_state();
        }
        // A file that is refused shows in what follows from it; the rest may still work.
        self.failed |= failed && check != Check::Files;
        let row = CheckRow { job: self.proof.job.number, tunnel: self.number, check, about: about.to_owned(), ends, words };
        (self.proof.tell)(Event::Row(row));
    }

    /// What the kernel of each end has at the first failure, for whoever looks at the logs; without keys.
    fn note_state(&self) {
        const LISTED: [&[&str]; 8] = [
            &["ip", "-s", "xfrm", "policy"],
            &["ip", "-s", "xfrm", "state", "list", "nokeys"],
            &["ip", "address"],
            &["ip", "-4", "rule"],
            &["ip", "-4", "route", "show", "table", "all"],
            &["ip", "-6", "route", "show", "table", "all"],
            &["nft", "list", "ruleset"],
            &["cat", "/proc/net/xfrm_stat"],
        ];
        for end in [0, 1] {
            let path = self.proof.places.logs.join(format!("{}.state", self.site_name(end)));
            let listed = LISTED.iter().filter_map(|words| {
                let said = self.gateway(end).room.tell(words[0], &words[1..]).ok()?;
                Some(format!("# {}\n{}\n", words.join(" "), said.text.trim_end()))
            });
            // Logs are an extra: a failure of theirs is none of the proof's.
            let _ = std::fs::write(path, listed.collect::<String>());
        }
    }

    /// The last lines in which each end's daemon speaks of a failure, since the check began.
    fn words(&self) -> Vec<String> {
        const LINES: usize = 5;
        let mut words = Vec::new();
        for end in [0, 1] {
            let new = self.words_of(end);
            words.extend(new.iter().skip(new.len().saturating_sub(LINES)).map(|line| format!("{}: {line}", self.site_name(end))));
        }
        words
    }

    /// The lines in which an end's daemon speaks of a failure, since the check began.
    fn words_of(&self, end: usize) -> Vec<String> {
        let site = self.site(end);
        let Ok(daemon) = self.daemon(end) else { return Vec::new() };
        let lines = self.proof.running[site].lines();
        lines.into_iter().skip(self.since[site]).filter(|line| daemon.tells_of_failure(line)).collect()
    }

    /// Does a check in both directions, unless an earlier one failed.
    fn both(&mut self, check: Check, about: &str, mut of: impl FnMut(&mut Self, usize) -> io::Result<Outcome>) -> io::Result<()> {
        let mut ends = [Outcome::Unreached, Outcome::Unreached];
        if !self.failed {
            for end in [0, 1] {
                ends[end] = of(self, end)?;
            }
        }
        self.row(check, about, ends);
        Ok(())
    }
}

/// Makes the folders of a run.
///
/// # Errors
/// On a failure of the file system.
pub fn make_places(places: &SitePlaces) -> io::Result<()> {
    for folder in [&places.state, &places.logs] {
        std::fs::create_dir_all(folder)?;
    }
    let machine_etc = places.state.join(crate::stage::gateway::MACHINE_ETC);
    std::fs::create_dir_all(&machine_etc)?;
    rustix::mount::mount_bind(Path::new("/etc"), &machine_etc)?;
    Ok(())
}
