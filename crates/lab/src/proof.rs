//! The proof of a job: every check, in order, on a stage with real daemons.

use std::fs::File;
use std::io::{self, Write as _};
use std::path::{Path, PathBuf};
use std::thread::sleep;
use std::time::{Duration, Instant};

use ipnet::IpNet;
use uspan_core::algorithm::Group;

use crate::daemon::{Daemon, Running, complains, daemon};
use crate::flow;
use crate::job::{Check, Event, Job, Opens, Outcome, Row, Tunnel};
use crate::sas::{self, EspSa};
use crate::stage::room::Said;
use crate::stage::{Gateway, Machine, Stage};
use crate::witness::Witness;

/// Where the lab finds and leaves things.
#[derive(Clone, Debug)]
pub struct Places {
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
pub fn prove(job: &Job, places: &Places, tell: &mut dyn FnMut(Event)) -> io::Result<()> {
    tell(Event::Now { job: job.number, doing: "laying out the networks".to_owned() });
    let stage = Stage::set(job, &places.state)?;
    let protected: Vec<IpNet> = job.sites.iter().flat_map(|site| site.networks.iter().map(|(_, net)| *net)).collect();
    let witness = Witness::watch(&stage.internet, protected, &places.logs.join("internet.pcap"))?;
    let mut proof = Proof { job, places, stage: &stage, witness: &witness, running: Vec::new(), tell };
    let files = proof.start()?;
    for number in 0..job.tunnels.len() {
        Walkthrough { proof: &mut proof, number, failed: false, since: Vec::new() }.run(&files)?;
    }
    proof.warnings()
}

struct Proof<'a> {
    job: &'a Job,
    places: &'a Places,
    stage: &'a Stage,
    witness: &'a Witness,
    running: Vec<Running>,
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

    /// Loads the rules and starts the daemons: those that only answer first, so that the others find them ready.
    /// Returns what each site's loaders made of its files.
    fn start(&mut self) -> io::Result<Vec<Outcome>> {
        let mut outcomes = Vec::new();
        for (i, gateway) in self.stage.gateways.iter().enumerate() {
            self.daemon(i)?.furnish(gateway, &self.places.cache)?;
            let rules = gateway.load_rules()?;
            let refused = rules.iter().find(|(_, said)| !said.fine || !said.text.is_empty());
            outcomes.push(refused.map_or_else(Outcome::pass, |(path, said)| Outcome::Fail(format!("nft, {path}: {}", said.text.trim()))));
        }
        let mut order: Vec<usize> = (0..self.job.sites.len()).collect();
        order.sort_by_key(|site| {
            let opens = self.job.tunnels.iter().flat_map(|tunnel| tunnel.ends.iter().zip(&tunnel.opens));
            opens.filter(|(end, _)| *end == site).any(|(_, opens)| *opens == Opens::AtOnce)
        });
        let mut running: Vec<Option<Running>> = self.job.sites.iter().map(|_| None).collect();
        for site in order {
            let name = &self.job.sites[site].name;
            self.now(format!("starting {} on {name}", self.job.sites[site].platform));
            let started = self.daemon(site)?.start(&self.stage.gateways[site], &self.log(site))?;
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
    fn run(mut self, files: &[Outcome]) -> io::Result<()> {
        let ends = self.tunnel().ends;
        self.begin("");
        self.row(Check::Files, "", ends.map(|site| files[site].clone()));
        self.open()?;
        self.traffic()?;
        self.outsiders()?;
        self.internet();
        self.rekey_esp()?;
        self.rekey_ike()?;
        self.returns()
    }

    fn tunnel(&self) -> &'a Tunnel {
        &self.proof.job.tunnels[self.number]
    }

    fn site(&self, end: usize) -> usize {
        self.tunnel().ends[end]
    }

    fn site_name(&self, end: usize) -> &'a str {
        &self.proof.job.sites[self.site(end)].name
    }

    fn gateway(&self, end: usize) -> &'a Gateway {
        &self.proof.stage.gateways[self.site(end)]
    }

    fn daemon(&self, end: usize) -> io::Result<&'static dyn Daemon> {
        self.proof.daemon(self.site(end))
    }

    fn children(&self) -> Vec<&'a str> {
        let mut children: Vec<_> = self.tunnel().pairs.iter().map(|pair| pair.child.as_str()).collect();
        children.dedup();
        children
    }

    /// The hosts of a pair: at this end, at the other.
    fn hosts(&self, pair: usize, end: usize) -> [&'a Machine; 2] {
        let tunnel = self.tunnel();
        let networks = tunnel.pairs[pair].networks;
        [end, 1 - end].map(|end| &self.proof.stage.hosts[tunnel.ends[end]][networks[end]])
    }

    fn pair_name(&self, pair: usize) -> String {
        let (job, tunnel) = (self.proof.job, self.tunnel());
        let name = |end: usize| job.sites[tunnel.ends[end]].networks[tunnel.pairs[pair].networks[end]].0.as_str();
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
        // A file that is refused shows in what follows from it; the rest may still work.
        self.failed |= failed && check != Check::Files;
        let row = Row { job: self.proof.job.number, tunnel: self.number, check, about: about.to_owned(), ends, words };
        (self.proof.tell)(Event::Row(row));
    }

    /// The last lines in which each end's daemon speaks of a failure, since the check began.
    fn words(&self) -> Vec<String> {
        const LINES: usize = 5;
        let mut words = Vec::new();
        for end in [0, 1] {
            let site = self.site(end);
            let Ok(daemon) = self.daemon(end) else { continue };
            let lines = self.proof.running[site].lines();
            let new = lines.into_iter().skip(self.since[site]).filter(|line| daemon.tells_of_failure(line)).collect::<Vec<_>>();
            words.extend(new.iter().skip(new.len().saturating_sub(LINES)).map(|line| format!("{}: {line}", self.site_name(end))));
        }
        words
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

    // --- opening

    fn open(&mut self) -> io::Result<()> {
        let opens = self.tunnel().opens;
        let mut order: Vec<usize> = [0, 1].into_iter().filter(|end| opens[*end] != Opens::Never).collect();
        order.sort_by_key(|end| opens[*end] != Opens::AtOnce);
        let mut outcomes = [0, 1].map(|end| match opens[end] {
            Opens::Never => Outcome::Idle("answers only".to_owned()),
            _ => Outcome::Unreached,
        });
        self.begin("opening");
        let mut selectors = [Outcome::Unreached, Outcome::Unreached];
        for (turn, end) in order.iter().copied().enumerate() {
            if turn > 0 {
                self.begin(&format!("closing, then opening from {}", self.site_name(end)));
                self.close(order[0])?;
            }
            outcomes[end] = self.open_from(end)?;
            selectors = [0, 1].map(|end| self.selectors(end).unwrap_or_else(|e| Outcome::Fail(e.to_string())));
            if outcomes[end].failed() {
                break;
            }
        }
        let failed = outcomes.iter().any(Outcome::failed);
        self.row(Check::Opens, "", outcomes);
        self.row(Check::Selectors, "", if failed { [Outcome::Unreached, Outcome::Unreached] } else { selectors });
        Ok(())
    }

    fn open_from(&mut self, end: usize) -> io::Result<Outcome> {
        let tunnel = self.tunnel();
        let since = Instant::now();
        match tunnel.opens[end] {
            Opens::AtOnce | Opens::Never => {}
            Opens::OnTraffic => {
                for pair in 0..tunnel.pairs.len() {
                    let [from, to] = self.hosts(pair, end);
                    // What it opens is looked at below; whether it is answered, later.
                    let _ = flow::ping_machine(from, to, 4);
                }
            }
            Opens::ByHand => {
                for child in self.children() {
                    self.daemon(end)?.open(self.gateway(end), &tunnel.name, child)?;
                }
            }
        }
        let opened = wait_for(OPENING, || match self.sa_pairs()? {
            pairs if pairs >= self.children().len() => Ok(Some(Outcome::Pass(format!("{} s", since.elapsed().as_secs())))),
            _ => Ok(self.dead_daemon()),
        })?;
        if let Some(outcome) = opened {
            return Ok(outcome);
        }
        let established = [0, 1].into_iter().filter_map(|end| self.ike_marks(end).ok()).any(|marks| !marks.is_empty());
        let have = self.sa_pairs()?;
        Ok(Outcome::Fail(match (established, have) {
            (true, 0) => "IKE SA, but no ESP SA".to_owned(),
            (_, 0) => "no IKE SA".to_owned(),
            (_, some) => format!("SAs for {some} of {} pairs", self.children().len()),
        }))
    }

    /// A daemon that ended by itself.
    fn dead_daemon(&self) -> Option<Outcome> {
        [0, 1].into_iter().find_map(|end| {
            let (site, name) = (self.site(end), self.site_name(end));
            (!self.proof.running[site].alive()).then(|| Outcome::Fail(format!("the daemon on {name} ended by itself")))
        })
    }

    fn close(&mut self, end: usize) -> io::Result<()> {
        self.daemon(end)?.close(self.gateway(end), &self.tunnel().name, &self.children())?;
        wait_for(REKEYING, || Ok((self.sa_pairs()? == 0).then_some(())))?;
        Ok(())
    }

    fn ike_marks(&self, end: usize) -> io::Result<Vec<String>> {
        self.daemon(end)?.ike_sas(self.gateway(end), &self.proof.running[self.site(end)], &self.tunnel().name)
    }

    // --- SAs

    /// The SAs of a gateway in one direction of the tunnel: from this end to the other.
    fn sas(&self, at: usize, from: usize) -> io::Result<Vec<EspSa>> {
        let [local, remote] = [from, 1 - from].map(|end| self.proof.job.sites[self.site(end)].address);
        Ok(sas::list(&self.gateway(at).room)?.into_iter().filter(|sa| (sa.from, sa.to) == (local, remote)).collect())
    }

    /// How many pairs of SAs both gateways have in common.
    fn sa_pairs(&self) -> io::Result<usize> {
        let mut least = usize::MAX;
        for from in [0, 1] {
            let (out, arriving) = (self.sas(from, from)?, self.sas(1 - from, from)?);
            least = least.min(out.iter().filter(|sa| arriving.iter().any(|other| other.spi == sa.spi)).count());
        }
        Ok(least)
    }

    fn selectors(&self, end: usize) -> io::Result<Outcome> {
        let (wanted, have) = (self.children().len(), self.sas(end, end)?.len());
        let plural = if have == 1 { "" } else { "s" };
        Ok(match have >= wanted {
            true => Outcome::Pass(format!("{have} SA{plural} out")),
            false => Outcome::Fail(format!("{have} SA{plural} out for {wanted} pairs")),
        })
    }

    fn packets(&self, from: usize) -> io::Result<[u64; 2]> {
        let sum = |sas: Vec<EspSa>| sas.iter().map(|sa| sa.packets).sum();
        Ok([sum(self.sas(from, from)?), sum(self.sas(1 - from, from)?)])
    }

    // --- traffic

    fn traffic(&mut self) -> io::Result<()> {
        if !self.failed {
            self.proof.witness.take();
        }
        let ground = self.failed;
        let mut lost = false;
        for pair in 0..self.tunnel().pairs.len() {
            lost |= self.failed;
            self.failed = ground;
            let name = self.pair_name(pair);
            self.begin(&format!("traffic between {name}"));
            let before = [self.packets(0)?, self.packets(1)?];
            self.both(Check::Ping, &name, |walk, end| {
                let [from, to] = walk.hosts(pair, end);
                Ok(flow::ping_machine(from, to, 3).map_or_else(Outcome::Fail, |()| Outcome::pass()))
            })?;
            lost |= self.failed;
            self.failed = ground;
            self.both(Check::Tcp, &name, |walk, end| {
                let [from, to] = walk.hosts(pair, end);
                Ok(match flow::tcp(&from.room, &to.room, to.host.address) {
                    Ok(seen) if seen == from.host.address => Outcome::pass(),
                    Ok(seen) => Outcome::Fail(format!("arrives with the source {seen}")),
                    Err(why) => Outcome::Fail(why),
                })
            })?;
            self.both(Check::FullSize, &name, |walk, end| {
                let [from, to] = walk.hosts(pair, end);
                let found = flow::full_size(&from.room, &to.room, to.host.address);
                Ok(found.map_or_else(Outcome::Fail, |mtu| Outcome::Pass(format!("{mtu} bytes"))))
            })?;
            lost |= self.failed;
            self.failed = ground;
            self.both(Check::Counters, &name, |walk, end| {
                let after = walk.packets(end)?;
                let rise = [0, 1].map(|at| after[at].saturating_sub(before[end][at]));
                Ok(match rise {
                    [0, 0] => Outcome::Fail("0 packets at both ends".to_owned()),
                    [0, _] => Outcome::Fail(format!("{} counts nothing that leaves", walk.site_name(end))),
                    [sent, 0] => Outcome::Fail(format!("{sent} packets leave, {} takes none", walk.site_name(1 - end))),
                    [sent, taken] => Outcome::Pass(format!("{sent} out, {taken} in")),
                })
            })?;
            if ground {
                break;
            }
        }
        lost |= self.failed;
        self.failed = ground;
        let seen = self.proof.witness.take();
        self.both(Check::Encrypted, "", |walk, end| {
            let [from, to] = [end, 1 - end].map(|end| walk.proof.job.sites[walk.site(end)].address);
            Ok(match (seen.clear_from(&walk.proof.job.sites[walk.site(end)]), seen.esp_between(from, to)) {
                (Some(packet), _) => Outcome::Fail(packet),
                (None, 0) => Outcome::Fail("no ESP".to_owned()),
                (None, esp) => Outcome::Pass(format!("{esp} packets")),
            })
        })?;
        self.failed |= lost;
        Ok(())
    }

    /// Combinations of hosts that no selector covers, from one end: names and hosts.
    fn uncovered(&self, end: usize) -> Vec<(String, [&'a Machine; 2])> {
        let (stage, tunnel) = (self.proof.stage, self.tunnel());
        let [near, far] = [end, 1 - end].map(|end| tunnel.ends[end]);
        let same = |a: &Machine, b: &Machine| a.host.address.is_ipv4() == b.host.address.is_ipv4();
        let mut found = Vec::new();
        for (i, from) in stage.hosts[near].iter().enumerate() {
            for (j, to) in stage.hosts[far].iter().enumerate() {
                let pair = |pair: &crate::job::Pair| pair.networks[end] == i && pair.networks[1 - end] == j;
                if same(from, to) && !tunnel.pairs.iter().any(pair) {
                    found.push((format!("{} to {}", from.host.address, to.host.address), [from, to]));
                }
            }
        }
        for (from, to) in stage.strangers[near].iter().zip(stage.hosts[far].iter().take(1)).filter(|(a, b)| same(a, b)) {
            found.push((format!("{} to {}", from.host.address, to.host.address), [from, to]));
        }
        for (from, to) in stage.hosts[near].iter().take(1).zip(stage.strangers[far].iter()).filter(|(a, b)| same(a, b)) {
            found.push((format!("{} to {}", from.host.address, to.host.address), [from, to]));
        }
        found
    }

    fn outsiders(&mut self) -> io::Result<()> {
        self.begin("traffic outside the selectors");
        self.both(Check::Outsiders, "", |walk, end| {
            let tried = walk.uncovered(end);
            for (name, [from, to]) in &tried {
                if flow::arrives(&from.room, &to.room, to.host.address)? {
                    return Ok(Outcome::Fail(format!("arrives: {name}")));
                }
            }
            Ok(Outcome::Pass(format!("{} tried", tried.len())))
        })?;
        self.proof.witness.take();
        Ok(())
    }

    fn internet(&mut self) {
        self.begin("traffic to the internet");
        let ends = [0, 1].map(|end| {
            if self.failed {
                return Outcome::Unreached;
            }
            let (site, stage) = (&self.proof.job.sites[self.site(end)], self.proof.stage);
            if !site.shares_internet {
                return Outcome::Idle("not shared".to_owned());
            }
            let hosts = &stage.hosts[self.site(end)];
            let fitting = stage.internet_hosts.iter().find_map(|address| {
                let host = hosts.iter().find(|host| host.host.address.is_ipv4() == address.is_ipv4())?;
                (site.address.is_ipv4() == address.is_ipv4()).then_some((host, *address))
            });
            let Some((host, address)) = fitting else { return Outcome::Idle("no network of its family".to_owned()) };
            match flow::tcp(&host.room, &stage.internet, address) {
                Ok(seen) if seen == site.address => Outcome::pass(),
                Ok(seen) => Outcome::Fail(format!("arrives with the source {seen}")),
                Err(why) => Outcome::Fail(why),
            }
        });
        self.row(Check::Internet, "", ends);
    }

    /// A fresh echo in both directions of every pair, or why not.
    fn goes_on(&self) -> Result<(), String> {
        for pair in 0..self.tunnel().pairs.len() {
            for end in [0, 1] {
                let [from, to] = self.hosts(pair, end);
                flow::ping_machine(from, to, 3).map_err(|why| format!("{} from {}: {why}", self.pair_name(pair), self.site_name(end)))?;
            }
        }
        Ok(())
    }

    // --- new keys

    fn rekey_esp(&mut self) -> io::Result<()> {
        self.begin("new keys for ESP");
        self.both(Check::RekeyEsp, "", |walk, end| {
            for child in walk.children() {
                if let Some(outcome) = walk.rekey_child(end, child)? {
                    return Ok(outcome);
                }
            }
            Ok(walk.goes_on().map_or_else(Outcome::Fail, |()| Outcome::Pass(group_words(walk.tunnel().pfs))))
        })
    }

    /// Nothing where the new SA is as agreed.
    fn rekey_child(&mut self, end: usize, child: &str) -> io::Result<Option<Outcome>> {
        let tunnel = self.tunnel();
        let spis = |walk: &Self, at: usize| -> io::Result<Vec<u32>> { Ok(walk.sas(at, 1 - at)?.into_iter().map(|sa| sa.spi).collect()) };
        let before = [spis(self, 0)?, spis(self, 1)?];
        let said = self.daemon(end)?.rekey_esp(self.gateway(end), &tunnel.name, child)?;
        if let Some(idle) = self.only_by_timer(&said) {
            return Ok(Some(idle));
        }
        let limit = if said.is_some() { REKEYING } else { Duration::from_secs(tunnel.lifetimes[1]) + REKEYING };
        let fresh =
            |walk: &Self, at: usize| -> io::Result<Option<u32>> { Ok(spis(walk, at)?.into_iter().find(|spi| !before[at].contains(spi))) };
        if wait_for(limit, || fresh(self, end))?.is_none() {
            let said = said.map(|said| said.text).unwrap_or_default();
            let last = said.lines().last().unwrap_or_default().trim();
            return Ok(Some(Outcome::Fail(format!("no new SA for {child} within {} s ({last})", limit.as_secs()))));
        }
        // The other end may need a moment to drop the old one.
        sleep(Duration::from_millis(500));
        // Either end knows the group; not every daemon tells it.
        for at in [end, 1 - end] {
            let Some(spi) = fresh(self, at)? else { continue };
            let running = &self.proof.running[self.site(at)];
            if let Some(group) = self.daemon(at)?.group_in_use(self.gateway(at), running, &tunnel.name, child, spi)? {
                let words = [group, tunnel.pfs].map(group_words);
                let differs = || Outcome::Fail(format!("{child} was rekeyed with {}, agreed was {}", words[0], words[1]));
                return Ok((group != tunnel.pfs).then(differs));
            }
        }
        Ok(None)
    }

    /// Why a rekey by this end cannot be waited for, if it cannot: only its timer does it, and time passes as it does.
    fn only_by_timer(&self, asked: &Option<Said>) -> Option<Outcome> {
        (asked.is_none() && !self.proof.places.waits_freely).then(|| Outcome::Idle("only by its timer".to_owned()))
    }

    fn rekey_ike(&mut self) -> io::Result<()> {
        self.begin("a new IKE SA");
        self.both(Check::RekeyIke, "", |walk, end| {
            let before = walk.ike_marks(end)?;
            let asked = walk.daemon(end)?.rekey_ike(walk.gateway(end), &walk.tunnel().name, &walk.children())?;
            if let Some(idle) = walk.only_by_timer(&asked) {
                return Ok(idle);
            }
            let limit = if asked.is_some() { REKEYING } else { Duration::from_secs(walk.tunnel().lifetimes[0]) + REKEYING };
            let fresh = wait_for(limit, || Ok(walk.ike_marks(end)?.into_iter().find(|mark| !before.contains(mark))))?;
            if fresh.is_some() {
                return Ok(walk.goes_on().map_or_else(Outcome::Fail, |()| Outcome::pass()));
            }
            Ok(Outcome::Fail(format!("no new IKE SA within {} s", limit.as_secs())))
        })
    }

    // --- death and return

    fn returns(&mut self) -> io::Result<()> {
        let mut silence = [Outcome::Unreached, Outcome::Unreached];
        let mut returns = [Outcome::Unreached, Outcome::Unreached];
        self.begin("");
        if !self.failed {
            for end in [0, 1] {
                let name = self.site_name(end);
                self.begin(&format!("{name} loses power and starts again"));
                (silence[end], returns[end]) = self.die_and_return(end)?;
                if returns[end].failed() {
                    break;
                }
            }
        }
        self.row(Check::Silence, "", silence);
        self.row(Check::Returns, "", returns);
        Ok(())
    }

    fn die_and_return(&mut self, end: usize) -> io::Result<(Outcome, Outcome)> {
        let (site, tunnel) = (self.site(end), self.tunnel());
        self.proof.witness.take();
        self.proof.running[site].kill();
        self.gateway(end).lose_power()?;
        for pair in 0..tunnel.pairs.len() {
            for direction in [0, 1] {
                let [from, to] = self.hosts(pair, direction);
                let _ = flow::ping_machine(from, to, 1);
            }
        }
        let seen = self.proof.witness.take();
        let sites = tunnel.ends.map(|site| &self.proof.job.sites[site]);
        let silence = sites.iter().find_map(|site| seen.clear_from(site)).map_or_else(Outcome::pass, Outcome::Fail);
        let log = self.proof.log(site);
        self.proof.running[site] = self.daemon(end)?.start(self.gateway(end), &log)?;
        let other_must_notice = matches!(tunnel.opens[end], Opens::Never);
        if other_must_notice && tunnel.liveness.is_none() {
            return Ok((silence, Outcome::Idle("liveness is off".to_owned())));
        }
        let returned = self.wait_for_return(end)?;
        Ok((silence, returned))
    }

    /// Waits until traffic crosses again both ways, doing only what the description leaves to people and hosts.
    fn wait_for_return(&mut self, dead: usize) -> io::Result<Outcome> {
        let tunnel = self.tunnel();
        let limit = GIVING_UP + Duration::from_secs(2 * tunnel.liveness.unwrap_or(0));
        let since = Instant::now();
        let openers: Vec<usize> = [dead, 1 - dead].into_iter().filter(|end| tunnel.opens[*end] != Opens::Never).collect();
        while since.elapsed() < limit {
            for &end in &openers {
                match tunnel.opens[end] {
                    Opens::ByHand => {
                        for child in self.children() {
                            self.daemon(end)?.open(self.gateway(end), &tunnel.name, child)?;
                        }
                    }
                    Opens::OnTraffic | Opens::AtOnce | Opens::Never => {
                        for pair in 0..tunnel.pairs.len() {
                            let [from, to] = self.hosts(pair, end);
                            let _ = flow::ping_machine(from, to, 1);
                        }
                    }
                }
            }
            if self.goes_on_at_once() {
                return Ok(Outcome::Pass(format!("{} s", since.elapsed().as_secs())));
            }
            sleep(Duration::from_secs(5));
        }
        Ok(Outcome::Fail(self.goes_on().err().unwrap_or_else(|| format!("only after {} s", limit.as_secs()))))
    }

    fn goes_on_at_once(&self) -> bool {
        (0..self.tunnel().pairs.len()).all(|pair| {
            [0, 1].into_iter().all(|end| {
                let [from, to] = self.hosts(pair, end);
                flow::ping_machine(from, to, 1).is_ok()
            })
        })
    }
}

fn group_words(group: Option<u16>) -> String {
    group.map_or("no group".to_owned(), |group| Group(group).to_string())
}

/// Makes the folders of a run.
///
/// # Errors
/// On a failure of the file system.
pub fn make_places(places: &Places) -> io::Result<()> {
    for folder in [&places.state, &places.logs] {
        std::fs::create_dir_all(folder)?;
    }
    let machine_etc = places.state.join(crate::stage::gateway::MACHINE_ETC);
    std::fs::create_dir_all(&machine_etc)?;
    rustix::mount::mount_bind(Path::new("/etc"), &machine_etc)?;
    Ok(())
}
