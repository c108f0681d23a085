//! Opening a tunnel from either end, and the SAs that come of it.

use std::collections::BTreeSet;
use std::io;
use std::time::{Duration, Instant};

use super::{LEARNING, OPENING, REKEYING, Walkthrough, wait_for};
use crate::job::{Check, JobOpening, JobTunnel, Outcome};
use crate::sas::{self, EspSa};

/// How long hosts wait before they try again what was not answered.
const HOSTS_TRY_AGAIN: Duration = Duration::from_secs(8);

impl<'a> Walkthrough<'_, 'a> {
    pub(super) fn open(&mut self) -> io::Result<()> {
        let opens = self.tunnel().opens;
        let mut order: Vec<usize> = [0, 1].into_iter().filter(|end| opens[*end] != JobOpening::Never).collect();
        order.sort_by_key(|end| opens[*end] != JobOpening::AtOnce);
        let mut outcomes = [0, 1].map(|end| match opens[end] {
            JobOpening::Never => Outcome::Idle("answers only".to_owned()),
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

    /// Each end has routes to all networks of the other from what the other said.
    pub(super) fn learned(&mut self) -> io::Result<()> {
        if !self.tunnel().routing {
            return Ok(());
        }
        self.begin("waiting for routes");
        self.both(Check::Learned, "", |walk, end| {
            let remote: Vec<_> = walk.tunnel().pairs.iter().map(|pair| pair.seen[1 - end].to_string()).collect();
            let since = Instant::now();
            let mut lacking = String::new();
            let found = wait_for(LEARNING, || {
                let mut routes = String::new();
                for family in ["-4", "-6"] {
                    routes.push_str(&walk.gateway(end).room.tell("ip", &[family, "route", "show", "proto", "bgp"])?.text);
                }
                // The route to a single host is listed without a length.
                let host = |net: &str| net.trim_end_matches("/32").trim_end_matches("/128").to_owned();
                let learned = |net: &String| routes.lines().any(|line| line.split_whitespace().next().map(host) == Some(host(net)));
                lacking = remote.iter().filter(|net| !learned(net)).cloned().collect::<Vec<_>>().join(", ");
                Ok(lacking.is_empty().then_some(()))
            })?;
            Ok(match found {
                Some(()) => Outcome::Pass(format!("{} s", since.elapsed().as_secs())),
                None => Outcome::Fail(format!("no route to {lacking}")),
            })
        })
    }

    fn open_from(&mut self, end: usize) -> io::Result<Outcome> {
        let since = Instant::now();
        self.set_out(end)?;
        let mut asked = Instant::now();
        let opened = wait_for(OPENING, || match self.sa_pairs()? {
            pairs if pairs >= self.children().len() => Ok(Some(Outcome::Pass(format!("{} s", since.elapsed().as_secs())))),
            _ => {
                // Hosts try again. A kernel asks a daemon for one SA to a host at a time, whoever sends, until it gives up after 30 s
                // (net.core.xfrm_acq_expires): where the traps have no gateways of their own, a second pair comes then.
                if self.tunnel().opens[end] == JobOpening::OnTraffic && asked.elapsed() >= HOSTS_TRY_AGAIN {
                    (0..self.tunnel().pairs.len()).for_each(|pair| _ = self.crosses(pair, end, 1));
                    asked = Instant::now();
                }
                Ok(self.dead_daemon())
            }
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

    /// Makes an end open the tunnel, where it does not do that by itself.
    pub(super) fn set_out(&mut self, end: usize) -> io::Result<()> {
        let tunnel = self.tunnel();
        match tunnel.opens[end] {
            JobOpening::AtOnce | JobOpening::Never => {}
            JobOpening::OnTraffic => {
                for pair in 0..tunnel.pairs.len() {
                    // What it opens is looked at below; whether it is answered, later.
                    let _ = self.crosses(pair, end, 4);
                }
            }
            JobOpening::ByHand => {
                for child in self.children() {
                    self.daemon(end)?.open(self.gateway(end), &tunnel.connections[end], child)?;
                }
            }
        }
        Ok(())
    }

    /// A daemon that ended by itself.
    pub(super) fn dead_daemon(&self) -> Option<Outcome> {
        [0, 1].into_iter().find_map(|end| {
            let (site, name) = (self.site(end), self.site_name(end));
            (!self.proof.running[site].alive()).then(|| Outcome::Fail(format!("the daemon on {name} ended by itself")))
        })
    }

    fn close(&mut self, end: usize) -> io::Result<()> {
        self.daemon(end)?.close(self.gateway(end), &self.tunnel().connections[end], &self.children())?;
        wait_for(REKEYING, || Ok((self.sa_pairs()? == 0).then_some(())))?;
        Ok(())
    }

    /// The tunnels between the same two gateways, which share an IKE SA: this one, and others.
    fn siblings(&self) -> impl Iterator<Item = &'a JobTunnel> + use<'a> {
        let own = self.tunnel();
        self.proof.job.tunnels.iter().filter(move |other| own.ends.iter().all(|site| other.ends.contains(site)))
    }

    /// The marks of the IKE SA at an end: it belongs to the connection of whichever tunnel opened it.
    pub(super) fn ike_marks(&self, end: usize) -> io::Result<Vec<String>> {
        let (site, running) = (self.site(end), &self.proof.running[self.site(end)]);
        let called = |other: &'a JobTunnel| &other.connections[usize::from(other.ends[0] != site)];
        let peer = self.proof.job.sites[self.site(1 - end)].address;
        let mut marks = Vec::new();
        for name in self.siblings().map(called).collect::<BTreeSet<_>>() {
            marks.extend(self.daemon(end)?.ike_sas(self.gateway(end), running, name, peer)?);
        }
        Ok(marks)
    }

    /// The Child SAs of an IKE SA.
    pub(super) fn of_ike_sa(&self) -> Vec<&'a str> {
        let mut children: Vec<_> = self.siblings().flat_map(|tunnel| tunnel.pairs.iter().map(|pair| pair.child.as_str())).collect();
        children.dedup();
        if children.is_empty() { self.children() } else { children }
    }

    /// The SAs of a gateway, by the end from which they lead to the other.
    pub(super) fn sas(&self, at: usize) -> io::Result<[Vec<EspSa>; 2]> {
        // A gateway knows itself by its own address, and the other by the one it reaches it at.
        let ends = [0, 1].map(|end| {
            let site = &self.proof.job.sites[self.site(end)];
            if end == at { site.own } else { site.address }
        });
        let room = &self.gateway(at).room;
        let mut all = sas::list(room)?;
        if self.tunnel().shared {
            // Of the SAs between two gateways those are its own whose policies have its selectors.
            let named = &self.tunnel().selectors[at];
            let own = sas::sent(room)?.into_iter().filter(|(from, to, _)| named.contains(&(*from, *to)));
            let requests: Vec<u32> = own.map(|(.., request)| request).collect();
            all.retain(|sa| requests.contains(&sa.request));
        }
        Ok([0, 1].map(|from| all.iter().filter(|sa| (sa.from, sa.to) == (ends[from], ends[1 - from])).cloned().collect()))
    }

    /// How many pairs of SAs both gateways have in common.
    pub(super) fn sa_pairs(&self) -> io::Result<usize> {
        let at = [self.sas(0)?, self.sas(1)?];
        let common = |from: usize| {
            let (out, arriving) = (&at[from][from], &at[1 - from][from]);
            out.iter().filter(|sa| arriving.iter().any(|other| other.spi == sa.spi)).count()
        };
        Ok(common(0).min(common(1)))
    }

    fn selectors(&self, end: usize) -> io::Result<Outcome> {
        let each_way = self.sas(end)?;
        let (leaving, arriving) = (&each_way[end], &each_way[1 - end]);
        let (wanted, have) = (self.children().len(), leaving.len());
        let plural = if have == 1 { "" } else { "s" };
        if have < wanted {
            return Ok(Outcome::Fail(format!("{have} SA{plural} out for {wanted} pairs")));
        }
        let tunnel = self.tunnel();
        let each = || leaving.iter().chain(arriving);
        let wrong = if each().any(|sa| sa.transport != tunnel.transport) {
            Some(format!("{} mode", if tunnel.transport { "tunnel" } else { "transport" }))
        } else if each().any(|sa| sa.extended != tunnel.extended) {
            Some(format!("sequence numbers of {} bits", if tunnel.extended { 32 } else { 64 }))
        } else if let Some(sa) = arriving.iter().find(|sa| sa.window != tunnel.windows[end]) {
            Some(format!("a replay window of {} packets instead of {}", sa.window, tunnel.windows[end]))
        } else if leaving.iter().any(|sa| sa.hides_dscp == tunnel.dscp[0]) || arriving.iter().any(|sa| sa.takes_dscp != tunnel.dscp[1]) {
            Some("the DSCP is copied in another way".to_owned())
        } else {
            None
        };
        Ok(wrong.map_or_else(|| Outcome::Pass(format!("{have} SA{plural} out")), Outcome::Fail))
    }

    /// What the SAs counted, by the end from which they lead: where that is sent, and where it arrives.
    pub(super) fn packets(&self) -> io::Result<[[u64; 2]; 2]> {
        let counted = [self.sas(0)?, self.sas(1)?].map(|ways| ways.map(|sas| sas.iter().map(|sa| sa.packets).sum::<u64>()));
        Ok([0, 1].map(|from| [counted[from][from], counted[1 - from][from]]))
    }
}
