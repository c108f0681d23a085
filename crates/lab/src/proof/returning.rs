//! One end loses power: nothing leaves in clear, and the tunnel comes back as described.

use std::io;
use std::thread::sleep;
use std::time::{Duration, Instant};

use super::{GIVING_UP, Walkthrough};
use crate::job::{Check, JobOpening, Outcome};

impl<'a> Walkthrough<'_, 'a> {
    pub(super) fn returns(&mut self) -> io::Result<()> {
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
        self.proof.routers[site] = None;
        self.gateway(end).lose_power()?;
        for pair in 0..tunnel.pairs.len() {
            for direction in [0, 1] {
                let _ = self.crosses(pair, direction, 1);
            }
        }
        let seen = self.proof.witness.take();
        let sites = tunnel.ends.map(|site| &self.proof.job.sites[site]);
        let leaves = sites.iter().find_map(|site| seen.clear_from(site)).or_else(|| self.beside_hub());
        let silence = leaves.map_or_else(Outcome::pass, Outcome::Fail);
        (self.proof.routers[site], _) = super::Proof::start_router(self.gateway(end))?;
        let log = self.proof.log(site);
        self.proof.running[site] = self.daemon(end)?.start(self.gateway(end), &log)?;
        let other_must_notice = matches!(tunnel.opens[end], JobOpening::Never);
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
        let openers: Vec<usize> = [dead, 1 - dead].into_iter().filter(|end| tunnel.opens[*end] != JobOpening::Never).collect();
        while since.elapsed() < limit {
            for &end in &openers {
                match tunnel.opens[end] {
                    JobOpening::ByHand => {
                        for child in self.children() {
                            self.daemon(end)?.open(self.gateway(end), &tunnel.connections[end], child)?;
                        }
                    }
                    JobOpening::OnTraffic | JobOpening::AtOnce | JobOpening::Never => {
                        for pair in 0..tunnel.pairs.len() {
                            let _ = self.crosses(pair, end, 1);
                        }
                    }
                }
            }
            if self.goes_on(1).is_ok() {
                return Ok(Outcome::Pass(format!("{} s", since.elapsed().as_secs())));
            }
            sleep(Duration::from_secs(5));
        }
        Ok(Outcome::Fail(self.goes_on(3).err().unwrap_or_else(|| format!("only after {} s", limit.as_secs()))))
    }
}
