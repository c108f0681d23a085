//! What crosses, what must not, and what goes to the internet.

use std::io;
use std::net::IpAddr;
use std::thread::sleep;

use super::{QUIET, Walkthrough};
use crate::flow::{self, Target};
use crate::job::{Check, JobPair, JobTunnel, Outcome, SentThrough};
use crate::stage::Machine;

/// What is said where nothing is tried.
const CLOSED: &str = "not let through";

/// What is said of an end whose hosts open nothing, and are sent nothing that is answered.
const UNANSWERED: &str = "nothing is answered";

/// Two hosts of which no selector covers what the first one sends.
struct Uncovered<'a> {
    from: &'a Machine,
    to: &'a Machine,
    /// Whether its gateway is to drop that.
    dropped: bool,
}

impl<'a> Walkthrough<'_, 'a> {
    pub(super) fn traffic(&mut self) -> io::Result<()> {
        if !self.failed {
            self.proof.witness.take();
        }
        let ground = self.failed;
        let mut lost = false;
        for pair in 0..self.tunnel().pairs.len() {
            self.begin_afresh(ground, &mut lost);
            let name = self.pair_name(pair);
            self.begin(&format!("traffic between {name}"));
            let before = self.packets()?;
            self.both(Check::Ping, &name, |walk, end| {
                if !walk.tunnel().opens_to[end].pings() {
                    return Ok(Outcome::Idle(CLOSED.to_owned()));
                }
                let (from, to) = walk.ends(pair, end);
                Ok(flow::ping(from, to.seen, 3).map_or_else(Outcome::Fail, |()| Outcome::pass()))
            })?;
            self.begin_afresh(ground, &mut lost);
            self.both(Check::Tcp, &name, |walk, end| {
                let Some(port) = walk.tunnel().opens_to[end].tcp_port() else { return Ok(Outcome::Idle(CLOSED.to_owned())) };
                let (from, to) = walk.ends(pair, end);
                Ok(match flow::tcp(from, to, port) {
                    Ok(seen) if seen == walk.address(pair, end) => Outcome::pass(),
                    Ok(seen) => Outcome::Fail(format!("arrives with the source {seen}")),
                    Err(why) => Outcome::Fail(why),
                })
            })?;
            self.both(Check::FullSize, &name, |walk, end| {
                let Some(port) = walk.tunnel().opens_to[end].udp_port() else { return Ok(Outcome::Idle(CLOSED.to_owned())) };
                let (from, to) = walk.ends(pair, end);
                let found = flow::full_size(from, to, port);
                Ok(found.map_or_else(Outcome::Fail, |mtu| Outcome::Pass(format!("{mtu} bytes"))))
            })?;
            self.begin_afresh(ground, &mut lost);
            let counted = self.packets()?;
            self.both(Check::Counters, &name, |walk, end| {
                if !walk.tunnel().sends(end) {
                    return Ok(Outcome::Idle(UNANSWERED.to_owned()));
                }
                let rise = [0, 1].map(|at| counted[end][at].saturating_sub(before[end][at]));
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
        self.begin_afresh(ground, &mut lost);
        let seen = self.proof.witness.take();
        self.both(Check::Encrypted, "", |walk, end| {
            let [from, to] = [end, 1 - end].map(|end| walk.proof.job.sites[walk.site(end)].address);
            let sends = walk.tunnel().sends(end);
            Ok(match (seen.clear_from(&walk.proof.job.sites[walk.site(end)]), seen.esp_between(from, to)) {
                (Some(packet), _) => Outcome::Fail(packet),
                (None, 0) if !sends => Outcome::Idle(UNANSWERED.to_owned()),
                (None, 0) if walk.tunnel().pairs.is_empty() => Outcome::Idle("no host at the other end".to_owned()),
                (None, 0) => Outcome::Fail("no ESP".to_owned()),
                (None, _) if walk.tunnel().in_udp && seen.esp_in_udp == 0 => Outcome::Fail("ESP, but not in UDP".to_owned()),
                (None, esp) => Outcome::Pass(format!("{esp} packets{}", if seen.esp_in_udp > 0 { ", in UDP" } else { "" })),
            })
        })?;
        self.failed |= lost;
        Ok(())
    }

    /// Checks that stand side by side do not wait for each other: what failed is remembered, the next one is made.
    fn begin_afresh(&mut self, ground: bool, lost: &mut bool) {
        *lost |= self.failed;
        self.failed = ground;
    }

    /// Combinations of hosts that no selector covers, from one end.
    fn uncovered(&self, end: usize) -> Vec<Uncovered<'a>> {
        let (stage, tunnel) = (self.proof.stage, self.tunnel());
        let [near, far] = [end, 1 - end].map(|end| tunnel.ends[end]);
        let same = |a: &Machine, b: &Machine| a.host.address.is_ipv4() == b.host.address.is_ipv4();
        let of = |from, to| Uncovered { from, to, dropped: false };
        let mut found = Vec::new();
        for (i, from) in stage.hosts[near].iter().enumerate() {
            for (j, to) in stage.hosts[far].iter().enumerate() {
                if same(from, to) && !self.is_carried([(near, i), (far, j)]) {
                    found.push(Uncovered { dropped: tunnel.drops_others[end], ..of(from, to) });
                }
            }
        }
        // What is translated has no other address in the tunnel.
        for (pair, carried) in tunnel.pairs.iter().enumerate() {
            let Some([from, to]) = self.hosts(pair, end) else { continue };
            if carried.seen[1 - end] != to.host.net && from.host.net != to.host.net {
                found.push(of(from, to));
            }
        }
        let strangers = stage.strangers[near].iter().zip(stage.hosts[far].iter().take(1));
        let to_strangers = stage.hosts[near].iter().take(1).zip(stage.strangers[far].iter());
        // To those of a hub through which everything goes the tunnel leads, and back from them.
        let hub = tunnel.everything.as_ref().map(|through| tunnel.ends[through.hub]);
        let strangers = strangers.filter(|_| hub != Some(near)).chain(to_strangers.filter(|_| hub != Some(far)));
        found.extend(strangers.filter(|(from, to)| same(from, to)).map(|(from, to)| of(from, to)));
        found
    }

    /// Whether a tunnel between two sites carries what two of their networks send each other.
    fn is_carried(&self, networks: [(usize, usize); 2]) -> bool {
        let carried = |tunnel: &JobTunnel, pair: &JobPair| {
            let ends = pair.networks.map(|own| [0, 1].map(|end| (tunnel.ends[end], own[end])));
            ends.is_some_and(|ends| networks.iter().all(|network| ends.contains(network)))
        };
        self.proof.job.tunnels.iter().any(|tunnel| tunnel.pairs.iter().any(|pair| carried(tunnel, pair)))
    }

    pub(super) fn outsiders(&mut self) -> io::Result<()> {
        self.begin("traffic outside the selectors");
        self.both(Check::Outsiders, "", |walk, end| {
            let tried = walk.uncovered(end);
            for Uncovered { from, to, dropped } in &tried {
                let name = format!("{} to {}", from.host.address, to.host.address);
                let seen = || walk.proof.witness.take().clear.into_iter().find(|(_, at, _)| *at == to.host.address);
                // What came before is of others.
                dropped.then(seen);
                if flow::arrives(&from.room, Target::machine(to), None)? {
                    return Ok(Outcome::Fail(format!("arrives: {name}")));
                }
                if let Some((source, ..)) = dropped.then(seen).flatten() {
                    return Ok(Outcome::Fail(format!("leaves in clear: {name}, from {source}")));
                }
            }
            if tried.is_empty() {
                return Ok(Outcome::Idle("nobody behind".to_owned()));
            }
            Ok(Outcome::Pass(format!("{} tried", tried.len())))
        })?;
        self.proof.witness.take();
        Ok(())
    }

    pub(super) fn internet(&mut self) {
        self.begin("traffic to the internet");
        let ends = [0, 1].map(|end| match (self.failed, self.tunnel().everything.as_ref()) {
            (true, _) => Outcome::Unreached,
            (false, Some(through)) if through.hub != end => self.through_hub(through),
            (false, _) => self.to_the_internet(end),
        });
        self.row(Check::Internet, "", ends);
    }

    /// A host of a site, and one on the internet of its family, if the site's gateway has that on its outside.
    fn with_internet(&self, end: usize, fits: impl Fn(usize) -> bool) -> Option<(&'a Machine, IpAddr)> {
        let (stage, site) = (self.proof.stage, &self.proof.job.sites[self.site(end)]);
        let mut hosts = stage.hosts[self.site(end)].iter().enumerate().filter(|(network, _)| fits(*network));
        hosts.find_map(|(_, host)| {
            let alike = |address: &&IpAddr| address.is_ipv4() == host.host.address.is_ipv4() && address.is_ipv4() == site.address.is_ipv4();
            stage.internet_hosts.iter().find(alike).map(|address| (host, *address))
        })
    }

    /// What a gateway shares its access with arrives with its address.
    fn to_the_internet(&self, end: usize) -> Outcome {
        let site = self.site(end);
        if !self.proof.job.sites[site].shares_internet {
            return Outcome::Idle("not shared".to_owned());
        }
        // What is sent through another site is tried with that tunnel.
        let elsewhere = |network: usize| {
            self.proof.job.tunnels.iter().any(|tunnel| {
                tunnel.everything.as_ref().is_some_and(|all| tunnel.ends[1 - all.hub] == site && all.networks.contains(&network))
            })
        };
        let Some((host, address)) = self.with_internet(end, |network| !elsewhere(network)) else {
            return Outcome::Idle("no network of its family".to_owned());
        };
        self.arrives_as(host, address, self.proof.job.sites[site].address)
    }

    /// What is sent through the other site arrives on the internet with the address of that one's gateway.
    fn through_hub(&self, through: &SentThrough) -> Outcome {
        let hub = &self.proof.job.sites[self.site(through.hub)];
        let end = 1 - through.hub;
        if through.stands_in {
            return Outcome::Idle("goes through the first hub".to_owned());
        }
        if !hub.shares_internet {
            return Outcome::Idle(format!("{} does not share", hub.name));
        }
        if self.tunnel().opens_to[end].tcp_port() != Some(None) {
            return Outcome::Idle(CLOSED.to_owned());
        }
        let found = self.with_internet(end, |network| through.networks.contains(&network));
        let Some((host, address)) = found.filter(|(_, address)| address.is_ipv4() == hub.address.is_ipv4()) else {
            return Outcome::Idle("no network of its family".to_owned());
        };
        self.arrives_as(host, address, hub.address)
    }

    fn arrives_as(&self, host: &Machine, address: IpAddr, wanted: IpAddr) -> Outcome {
        match flow::tcp(&host.room, Target::plain(&self.proof.stage.internet, address), None) {
            Ok(seen) if seen == wanted => Outcome::pass(),
            Ok(seen) => Outcome::Fail(format!("arrives with the source {seen}")),
            Err(why) => Outcome::Fail(why),
        }
    }

    /// What has no other way than through the other site and reaches the internet all the same.
    pub(super) fn beside_hub(&self) -> Option<String> {
        let through = self.tunnel().everything.as_ref().filter(|through| !through.stands_in)?;
        let (host, address) = self.with_internet(1 - through.hub, |network| through.networks.contains(&network))?;
        let seen = flow::tcp(&host.room, Target::plain(&self.proof.stage.internet, address), None).ok()?;
        Some(format!("{} reaches the internet beside the tunnel, as {seen}", host.host.address))
    }

    /// What reaches another member through the hub: its packets take two tunnels, of which the second may be narrower.
    pub(super) fn onward(&mut self) -> io::Result<()> {
        let Some(other) = self.tunnel().onward.map(|number| &self.proof.job.tunnels[number]) else { return Ok(()) };
        let stage = self.proof.stage;
        let name = self.proof.job.sites[other.ends[1]].name.clone();
        self.begin(&format!("traffic to {name} through the hub"));
        let (own, theirs) = (&stage.hosts[self.site(1)], &stage.hosts[other.ends[1]]);
        let fitting = own.iter().find_map(|from| {
            let to = theirs.iter().find(|to| to.host.address.is_ipv4() == from.host.address.is_ipv4())?;
            Some((from, to))
        });
        self.both(Check::Onward, &name, |walk, end| {
            if end == 0 {
                return Ok(Outcome::Idle("passes it on".to_owned()));
            }
            let (Some((from, to)), Some(port)) = (fitting, walk.tunnel().opens_to[1].tcp_port()) else {
                return Ok(Outcome::Idle(CLOSED.to_owned()));
            };
            match flow::tcp(&from.room, Target::machine(to), port) {
                Ok(seen) if seen == from.host.address => {}
                Ok(seen) => return Ok(Outcome::Fail(format!("arrives with the source {seen}"))),
                Err(why) => return Ok(Outcome::Fail(why)),
            }
            let Some(port) = walk.tunnel().opens_to[1].udp_port() else { return Ok(Outcome::pass()) };
            let found = flow::full_size(&from.room, Target::machine(to), port);
            Ok(found.map_or_else(Outcome::Fail, |mtu| Outcome::Pass(format!("{mtu} bytes"))))
        })
    }

    /// What the filter is to stop, of what the selectors carry.
    pub(super) fn services(&mut self) -> io::Result<()> {
        if self.tunnel().opens_to.iter().all(|opens_to| opens_to.everything) {
            return Ok(());
        }
        self.begin("other services");
        self.both(Check::Services, "", |walk, end| {
            let opens_to = &walk.tunnel().opens_to[end];
            let (true, Some(port)) = (!opens_to.everything, opens_to.closed) else {
                return Ok(Outcome::Idle("everything passes".to_owned()));
            };
            for pair in 0..walk.tunnel().pairs.len() {
                let (from, to) = walk.ends(pair, end);
                if flow::arrives(from, to, Some(port))? {
                    return Ok(Outcome::Fail(format!("UDP {port} arrives: {}", walk.pair_name(pair))));
                }
                if !opens_to.echo && flow::ping(from, to.seen, 1).is_ok() {
                    return Ok(Outcome::Fail(format!("an echo request is answered: {}", walk.pair_name(pair))));
                }
            }
            Ok(Outcome::Pass(format!("UDP {port}{}", if opens_to.echo { "" } else { " and ping" })))
        })
    }

    /// A NAT device forgets who is silent; whether what keeps its mapping goes on by itself shows where waiting is free.
    pub(super) fn quiet(&mut self) -> io::Result<()> {
        let translated = [0, 1].into_iter().any(|end| self.proof.job.sites[self.site(end)].is_translated());
        if !translated || !self.proof.places.waits_freely {
            return Ok(());
        }
        self.begin("five minutes of silence");
        self.both(Check::Quiet, "", |walk, end| {
            // Each end after a silence of its own: what one sends renews the mapping for the other.
            sleep(QUIET);
            let lost = (0..walk.tunnel().pairs.len())
                .find_map(|pair| walk.crosses(pair, end, 3).err().map(|why| format!("{}: {why}", walk.pair_name(pair))));
            Ok(lost.map_or_else(Outcome::pass, Outcome::Fail))
        })
    }

    /// A fresh flow in both directions of every pair, or why not.
    pub(super) fn goes_on(&self, tries: u16) -> Result<(), String> {
        self.go_on(self.tunnel().pairs.len(), tries)
    }

    /// The same of some pairs, from the first one on.
    pub(super) fn go_on(&self, pairs: usize, tries: u16) -> Result<(), String> {
        for pair in 0..pairs {
            for end in [0, 1] {
                self.crosses(pair, end, tries).map_err(|why| format!("{} from {}: {why}", self.pair_name(pair), self.site_name(end)))?;
            }
        }
        Ok(())
    }

    /// A fresh flow from one end of a pair, of a kind that the filter lets through; nothing is sent where it lets
    /// nothing through.
    pub(super) fn crosses(&self, pair: usize, end: usize, tries: u16) -> Result<(), String> {
        let (from, to) = self.ends(pair, end);
        let opens_to = &self.tunnel().opens_to[end];
        match (opens_to.pings(), opens_to.tcp_port(), opens_to.udp_port()) {
            (true, ..) => flow::ping(from, to.seen, tries),
            (_, Some(port), _) => flow::tcp(from, to, port).map(drop),
            (.., Some(port)) => match flow::arrives(from, to, port) {
                Ok(true) => Ok(()),
                Ok(false) => Err("a datagram does not arrive".to_owned()),
                Err(error) => Err(error.to_string()),
            },
            _ => Ok(()),
        }
    }
}
