//! What stood on two gateways before is up, and is taken over as it is told to people.

use std::io;

use super::{OPENING, Walkthrough, wait_for};
use crate::job::{Check, Outcome, Takeover};

/// Where files of daemons stand.
const FILES: &str = "/etc/swanctl /etc/ipsec.conf /etc/ipsec.secrets /etc/ipsec.d /etc/iked.conf /etc/iked.d /etc/iked";

impl Walkthrough<'_, '_> {
    pub(super) fn take_over(&mut self) -> io::Result<()> {
        self.begin("waiting for what was there before");
        self.since = vec![0; self.proof.running.len()];
        let up = wait_for(OPENING, || Ok((self.sa_pairs()? >= 1).then_some(())))?;
        if up.is_none() {
            let why = Outcome::Fail("what was there before does not come up".to_owned());
            self.row(Check::TakenOver, "", [why.clone(), why]);
            return Ok(());
        }
        self.begin("taking it over");
        let mut failed = [None, None];
        for end in [0, 1] {
            failed[end] = self.told(end, |takeover| vec![takeover.script.clone()])?;
        }
        for end in [0, 1] {
            self.gateway(end).lay_new()?;
            for (path, said) in self.gateway(end).load_rules()? {
                if !said.fine {
                    failed[end].get_or_insert(format!("{path}: {}", said.text.trim()));
                }
            }
        }
        for end in [0, 1] {
            let said = self.told(end, |takeover| takeover.take_up.clone())?;
            failed[end] = failed[end].take().or(said);
        }
        for end in [0, 1] {
            self.set_out(end)?;
        }
        let wanted = self.children().len();
        let _ = wait_for(OPENING, || Ok((self.sa_pairs()? >= wanted).then_some(())))?;
        let crosses = self.goes_on(3).err();
        let mut outcomes = [Outcome::pass(), Outcome::pass()];
        for end in [0, 1] {
            if let Some(why) = failed[end].take().or(crosses.clone()).map_or_else(|| self.remains(end, wanted), |why| Ok(Some(why)))? {
                outcomes[end] = Outcome::Fail(why);
            }
        }
        self.row(Check::TakenOver, "", outcomes);
        Ok(())
    }

    /// Runs commands of a takeover on a gateway; what one that fails says.
    fn told(&self, end: usize, commands: impl Fn(&Takeover) -> Vec<String>) -> io::Result<Option<String>> {
        let Some(takeover) = &self.gateway(end).site.takeover else { return Ok(Some("there is nothing to take over".to_owned())) };
        for command in commands(takeover) {
            let said = self.gateway(end).room.tell("sh", &["-c", &command])?;
            if !said.fine {
                return Ok(Some(format!("{}: {}", command.lines().next().unwrap_or_default(), said.text.trim())));
            }
        }
        Ok(None)
    }

    /// What is there beside one tunnel.
    fn remains(&self, end: usize, wanted: usize) -> io::Result<Option<String>> {
        let marks = self.ike_marks(end)?.len();
        if marks != 1 {
            return Ok(Some(format!("{marks} IKE SAs")));
        }
        let sas = self.sas(end)?[end].len();
        if sas != wanted {
            return Ok(Some(format!("{sas} SAs for {wanted} Child SAs")));
        }
        let Some(takeover) = &self.gateway(end).site.takeover else { return Ok(None) };
        for word in &takeover.gone {
            let found = self.gateway(end).room.tell("sh", &["-c", &format!("grep -rlF -- '{word}' {FILES} 2>/dev/null || true")])?;
            if !found.text.trim().is_empty() {
                return Ok(Some(format!("`{word}` is still in {}", found.text.split_whitespace().collect::<Vec<_>>().join(", "))));
            }
        }
        Ok(None)
    }
}
