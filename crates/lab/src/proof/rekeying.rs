//! New keys, asked for by either end.

use std::io;
use std::thread::sleep;
use std::time::Duration;

use uspan_core::algorithm::Transform;

use super::{REKEYING, Walkthrough, wait_for};
use crate::job::{Check, Outcome};
use crate::stage::room::Said;

impl<'a> Walkthrough<'_, 'a> {
    pub(super) fn rekey_esp(&mut self) -> io::Result<()> {
        self.begin("new keys for ESP");
        self.both(Check::RekeyEsp, "", |walk, end| {
            for child in walk.children() {
                if let Some(outcome) = walk.rekey_child(end, child)? {
                    return Ok(outcome);
                }
            }
            Ok(walk.goes_on(3).map_or_else(Outcome::Fail, |()| Outcome::Pass(group_words(walk.tunnel().pfs))))
        })
    }

    /// Nothing where the new SA is as agreed.
    fn rekey_child(&mut self, end: usize, child: &str) -> io::Result<Option<Outcome>> {
        let tunnel = self.tunnel();
        let before = [self.arriving(0)?, self.arriving(1)?];
        match self.renew(end, child)? {
            Renewed::Yes => {}
            Renewed::No(why) => return Ok(Some(Outcome::Fail(why))),
            Renewed::Untried(idle) => return Ok(Some(idle)),
        }
        // The other end may need a moment to drop the old one.
        sleep(Duration::from_millis(500));
        // Either end knows the group; not every daemon tells it.
        for at in [end, 1 - end] {
            let Some(spi) = self.arriving(at)?.into_iter().find(|spi| !before[at].contains(spi)) else { continue };
            let running = &self.proof.running[self.site(at)];
            if let Some(group) = self.daemon(at)?.group_in_use(self.gateway(at), running, &tunnel.connections[at], child, spi)? {
                let words = [group, tunnel.pfs].map(group_words);
                let differs = || Outcome::Fail(format!("{child} was rekeyed with {}, agreed was {}", words[0], words[1]));
                return Ok((group != tunnel.pfs).then(differs));
            }
        }
        Ok(None)
    }

    /// The SPIs of what arrives at an end.
    fn arriving(&self, at: usize) -> io::Result<Vec<u32>> {
        Ok(self.sas(at)?[1 - at].iter().map(|sa| sa.spi).collect())
    }

    /// Asks an end for new keys of a Child SA and waits for them.
    pub(super) fn renew(&mut self, end: usize, child: &str) -> io::Result<Renewed> {
        let tunnel = self.tunnel();
        let before = self.arriving(end)?;
        let said = self.daemon(end)?.rekey_esp(self.gateway(end), &tunnel.connections[end], child)?;
        if let Some(idle) = self.only_by_timer(&said) {
            return Ok(Renewed::Untried(idle));
        }
        let limit = if said.is_some() { REKEYING } else { Duration::from_secs(tunnel.lifetimes[1]) + REKEYING };
        if wait_for(limit, || Ok(self.arriving(end)?.into_iter().find(|spi| !before.contains(spi))))?.is_some() {
            return Ok(Renewed::Yes);
        }
        let said = said.map(|said| said.text).unwrap_or_default();
        let last = said.lines().last().unwrap_or_default().trim();
        Ok(Renewed::No(format!("no new SA for {child} within {} s ({last})", limit.as_secs())))
    }

    /// The same for the IKE SA.
    pub(super) fn renew_ike(&mut self, end: usize) -> io::Result<Renewed> {
        let before = self.ike_marks(end)?;
        let asked = self.daemon(end)?.rekey_ike(self.gateway(end), &self.tunnel().connections[end], &self.of_ike_sa())?;
        if let Some(idle) = self.only_by_timer(&asked) {
            return Ok(Renewed::Untried(idle));
        }
        let limit = if asked.is_some() { REKEYING } else { Duration::from_secs(self.tunnel().lifetimes[0]) + REKEYING };
        let fresh = wait_for(limit, || Ok(self.ike_marks(end)?.into_iter().find(|mark| !before.contains(mark))))?;
        Ok(fresh.map_or_else(|| Renewed::No(format!("no new IKE SA within {} s", limit.as_secs())), |_| Renewed::Yes))
    }

    /// Why a rekey by this end cannot be waited for, if it cannot: only its timer does it, and time passes as it does.
    fn only_by_timer(&self, asked: &Option<Said>) -> Option<Outcome> {
        (asked.is_none() && !self.proof.places.waits_freely).then(|| Outcome::Idle("only by its timer".to_owned()))
    }

    pub(super) fn rekey_ike(&mut self) -> io::Result<()> {
        self.begin("a new IKE SA");
        self.both(Check::RekeyIke, "", |walk, end| {
            Ok(match walk.renew_ike(end)? {
                Renewed::Yes => walk.goes_on(3).map_or_else(Outcome::Fail, |()| Outcome::pass()),
                Renewed::No(why) => Outcome::Fail(why),
                Renewed::Untried(idle) => idle,
            })
        })
    }
}

/// What came of asking for new keys.
pub(super) enum Renewed {
    Yes,
    /// There were none in time, and why.
    No(String),
    /// It could not be tried.
    Untried(Outcome),
}

fn group_words(group: Option<u16>) -> String {
    group.map_or("no group".to_owned(), |group| Transform::key_exchange(group).to_string())
}
