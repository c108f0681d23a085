//! New keys, asked for by either end.

use std::io;
use std::thread::sleep;
use std::time::Duration;

use uspan_core::algorithm::Group;

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

    pub(super) fn rekey_ike(&mut self) -> io::Result<()> {
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
                return Ok(walk.goes_on(3).map_or_else(Outcome::Fail, |()| Outcome::pass()));
            }
            Ok(Outcome::Fail(format!("no new IKE SA within {} s", limit.as_secs())))
        })
    }
}

fn group_words(group: Option<u16>) -> String {
    group.map_or("no group".to_owned(), |group| Group(group).to_string())
}
