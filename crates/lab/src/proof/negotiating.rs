//! A negotiation whatever comes of it: how far it gets, with what on the wire, and what the daemons say.

use std::io;

use super::rekeying::Renewed;
use super::{OPENING, Walkthrough, wait_for};
use crate::job::{Check, Event, Negotiation, Opens, Outcome};
use crate::sas;

impl Walkthrough<'_, '_> {
    /// Opens the tunnel from the end that does, and asks each end for new keys.
    pub(super) fn negotiate(&mut self, files: &[Outcome]) -> io::Result<()> {
        let tunnel = self.tunnel();
        self.begin("");
        self.row(Check::Files, "", tunnel.ends.map(|site| files[site].clone()));
        // What a daemon says while it starts counts too.
        self.since = vec![0; self.proof.running.len()];
        let mut came = Negotiation::default();
        let opener = [0, 1].into_iter().find(|end| tunnel.opens[*end] != Opens::Never).unwrap_or(0);
        self.set_out(opener)?;
        let wanted = self.children().len();
        wait_for(OPENING, || {
            let marks = [0, 1].map(|end| self.ike_marks(end).unwrap_or_default());
            came.authenticated |= marks.iter().all(|marks| !marks.is_empty());
            Ok((self.sa_pairs()? >= wanted || self.dead_daemon().is_some()).then_some(()))
        })?;
        came.opened = (self.sa_pairs()?, wanted);
        for end in [0, 1] {
            let own: Vec<u32> = self.sas(end, end)?.iter().map(|sa| sa.request).collect();
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
