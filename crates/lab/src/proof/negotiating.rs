//! A negotiation whatever comes of it: how far it gets, with what on the wire, and what the daemons say.

use std::collections::BTreeMap;
use std::io;
use std::net::IpAddr;
use std::thread::sleep;
use std::time::Duration;

use super::rekeying::Renewed;
use super::{OPENING, Walkthrough, wait_for};
use crate::flow::{self, Target};
use crate::job::{Event, Flowed, JobOpening, Negotiation, Outcome};
use crate::sas;
use crate::stage::Machine;
use crate::stage::RuleListing;

/// How long somebody listens in vain, and a little more.
const GIVING_UP: Duration = Duration::from_secs(10);

/// Ports that are tried: one that many filters let through, and one that few do.
const PORTS: [u16; 2] = [443, 22];

impl Walkthrough<'_, '_> {
    /// Opens the tunnel from the end that does, and asks each end for new keys.
    pub(super) fn negotiate(&mut self, files: &[Outcome]) -> io::Result<()> {
        let tunnel = self.tunnel();
        self.taken_up(files);
        // What a daemon says while it starts counts too.
        self.since = vec![0; self.proof.running.len()];
        let mut came = Negotiation::default();
        let opener = [0, 1].into_iter().find(|end| tunnel.opens[*end] != JobOpening::Never).unwrap_or(0);
        self.set_out(opener)?;
        let wanted = self.children().len();
        wait_for(OPENING, || {
            let marks = [0, 1].map(|end| self.ike_marks(end).unwrap_or_default());
            came.authenticated |= marks.iter().all(|marks| !marks.is_empty());
            Ok((self.sa_pairs()? >= wanted || self.dead_daemon().is_some()).then_some(()))
        })?;
        came.opened = (self.sa_pairs()?, wanted);
        for end in [0, 1] {
            let own: Vec<u32> = self.sas(end)?[end].iter().map(|sa| sa.request).collect();
            let sent = sas::sent(&self.gateway(end).room)?.into_iter().filter(|(.., request)| own.contains(request));
            came.selectors[end] = sent.map(|(from, to, _)| (from, to)).collect();
            came.selectors[end].sort();
            came.selectors[end].dedup();
        }
        came.messages = self.proof.witness.take().messages;
        if came.opened.0 >= wanted {
            self.renew_all(&mut came)?;
        }
        came.words = [0, 1].map(|end| self.words_of(end));
        let job = self.proof.job.number;
        (self.proof.tell)(Event::Negotiated { job, tunnel: self.number, came: Box::new(came) });
        Ok(())
    }

    /// The inside address of a gateway, where somebody is behind it.
    fn inside(&self, site: usize) -> Option<IpAddr> {
        self.proof.stage.hosts[site].first().and_then(|machine| machine.host.gateway)
    }

    /// Opens the tunnel, and lets everybody try to reach everybody at the other end.
    pub(super) fn try_flows(&mut self) -> io::Result<()> {
        /// As long as a tunnel takes that comes up at all.
        const SOON: Duration = Duration::from_secs(20);
        let tunnel = self.tunnel();
        let opener = [0, 1].into_iter().find(|end| tunnel.opens[*end] != JobOpening::Never).unwrap_or(0);
        self.set_out(opener)?;
        let wanted = self.children().len();
        wait_for(SOON, || Ok((self.sa_pairs()? >= wanted).then_some(())))?;
        let mut flows = Vec::new();
        for end in [0, 1] {
            let [near, far] = [end, 1 - end].map(|end| tunnel.ends[end]);
            let stage = self.proof.stage;
            let hosts: Vec<&Machine> = stage.hosts[near].iter().chain(stage.strangers[near].iter().take(1)).collect();
            let targets: Vec<&Machine> = stage.hosts[far].iter().chain(stage.strangers[far].iter().take(1)).collect();
            for from in &hosts {
                for to in &targets {
                    let (own, there) = (from.host.address, to.host.address);
                    let ping = flow::ping(&from.room, there, 1).is_ok();
                    flows.push(Flowed { from: own, to: there, port: None, worked: ping });
                    for port in PORTS {
                        let worked = flow::tcp(&from.room, Target::machine(to), Some(port)).is_ok_and(|seen| seen == own);
                        flows.push(Flowed { from: own, to: there, port: Some(port), worked });
                        if !worked {
                            // Until the one that listened in vain has given up, nobody else can listen there.
                            sleep(GIVING_UP);
                        }
                    }
                }
            }
            // The gateway itself, from its outside address and from one inside; and to the other gateway's inside.
            let gateway = self.gateway(end);
            for from in [Some(gateway.site.own), self.inside(near)].into_iter().flatten() {
                for to in &targets {
                    let worked = flow::ping_from(&gateway.room, Some(from), to.host.address, 1).is_ok();
                    flows.push(Flowed { from, to: to.host.address, port: None, worked });
                }
            }
            let beyond = self.inside(far);
            for (from, to) in hosts.iter().filter_map(|from| Some((from, beyond?))) {
                let worked = flow::ping(&from.room, to, 1).is_ok();
                flows.push(Flowed { from: from.host.address, to, port: None, worked });
            }
        }
        let job = self.proof.job.number;
        let inside = tunnel.ends.map(|site| self.inside(site));
        let mut listings = [BTreeMap::new(), BTreeMap::new()];
        for (end, listing) in listings.iter_mut().enumerate() {
            *listing = self.listings(end)?;
        }
        (self.proof.tell)(Event::Flowed { job, tunnel: self.number, inside, flows, listings });
        Ok(())
    }

    /// What a gateway lists of itself, by the file of a tree that it would be.
    fn listings(&self, end: usize) -> io::Result<BTreeMap<String, String>> {
        const NETWORK: [RuleListing; 3] = [
            ("listing/ip-address", "ip", &["address"]),
            ("listing/ip-route", "ip", &["route"]),
            ("listing/ip6-route", "ip", &["-6", "route"]),
        ];
        let gateway = self.gateway(end);
        let rules = gateway.administrator()?.listings();
        let mut listings = BTreeMap::new();
        for (path, program, args) in rules.iter().chain(&NETWORK) {
            listings.insert((*path).to_owned(), gateway.room.tell(program, args)?.text);
        }
        // What people are told to look at after installing; there is no journal here.
        for command in gateway.site.looks.iter().filter(|command| !command.starts_with("journalctl")) {
            let command = command.replace("{}", &self.tunnel().name);
            let said = gateway.room.tell("sh", &["-c", &command])?.text;
            listings.insert(command, said);
        }
        Ok(listings)
    }

    fn renew_all(&mut self, came: &mut Negotiation) -> io::Result<()> {
        let worked = |renewed: Renewed| match renewed {
            Renewed::Yes => Some(true),
            Renewed::No(_) => Some(false),
            Renewed::Untried(_) => None,
        };
        for end in [0, 1] {
            for child in self.children() {
                let one = worked(self.renew(end, child)?);
                came.rekeys_esp[end] = came.rekeys_esp[end].map_or(one, |all| Some(all && one != Some(false)));
            }
        }
        for end in [0, 1] {
            came.rekeys_ike[end] = worked(self.renew_ike(end)?);
        }
        Ok(())
    }
}
