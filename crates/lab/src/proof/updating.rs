//! Gateways take up other files while their tunnels are up, and go back: what that interrupts, and what stands there afterwards.

use std::io;
use std::path::PathBuf;
use std::thread::sleep;
use std::time::{Duration, Instant};

use super::{OPENING, Proof, Walkthrough, complaint, wait_for};
use crate::daemon::router::Router;
use crate::flow::EchoStream;
use crate::job::Event;
use crate::stage::services;
use crate::update::{StandingFiles, UpdateSeen, UpdateStep};

/// How long packets are watched after a program ended, and before it begins.
const WATCHED: Duration = Duration::from_secs(5);
/// How long a tunnel may take to be whole again.
const RECOVERY: Duration = Duration::from_secs(240);
/// In seconds: how long nobody confirms.
const UNCONFIRMED: u64 = 15;

/// The service of the routing daemons; all others are of IKE daemons.
const ROUTER: &str = "frr";

impl Proof<'_> {
    /// Does to a service of a gateway what its programs ask for.
    fn serve(&mut self, site: usize, verb: &str, service: &str) -> io::Result<bool> {
        let (gateway, log) = (&self.stage.gateways[site], self.log(site));
        match (verb, service) {
            ("start", ROUTER) => self.routers[site] = Some(Router::begin(gateway)?.0),
            ("reload", ROUTER) => return Ok(gateway.room.tell("vtysh", &["-b"])?.fine),
            (_, "unified-span") => {}
            ("start" | "restart", _) => {
                self.running[site].stop();
                self.running[site] = self.daemon(site)?.start(gateway, &log)?;
            }
            ("stop", _) => self.running[site].stop(),
            _ => return Ok(false),
        }
        Ok(true)
    }
}

/// What a tunnel has at a moment: marks of its IKE SAs and SPIs of its ESP SAs, at each end.
#[derive(PartialEq, Eq)]
struct SasNow {
    ike: [Vec<String>; 2],
    esp: [Vec<u32>; 2],
}

impl Walkthrough<'_, '_> {
    /// Does everything that is wanted to each gateway that has an update.
    pub(super) fn update(&mut self) -> io::Result<()> {
        self.since = vec![0; self.proof.running.len()];
        for end in [0, 1] {
            self.set_out(end)?;
        }
        let wanted = self.children().len();
        let up = wait_for(OPENING, || Ok((self.goes_on(1).is_ok() && self.sa_pairs()? >= wanted).then_some(())))?;
        let updated: Vec<usize> = [0, 1].into_iter().filter(|end| self.gateway(*end).site.update.is_some()).collect();
        if up.is_none() {
            let sites = updated.iter().map(|end| self.site_name(*end).to_owned()).collect();
            self.tell(sites, "the tunnel does not come up before".to_owned());
            return Ok(());
        }
        for end in &updated {
            let gateway = self.gateway(*end);
            let update = gateway.site.update.as_ref().expect("they were chosen by it");
            gateway.deliver(&update.files, &update.program)?;
        }
        let together = updated.iter().any(|end| self.gateway(*end).site.update.as_ref().is_some_and(|update| update.together));
        let turns: Vec<&[usize]> = if together { vec![&updated] } else { updated.chunks(1).collect() };
        for ends in turns {
            let took = self.step(ends, UpdateStep::Forth)?;
            self.step(ends, UpdateStep::Back)?;
            let kills = self.gateway(ends[0]).site.update.as_ref().map_or(0, |update| update.kills);
            if kills == 0 {
                continue;
            }
            self.step(ends, UpdateStep::Unconfirmed)?;
            for number in 0..kills {
                self.killed(ends[0], took * number / kills)?;
            }
            self.step(ends, UpdateStep::Reboot)?;
        }
        Ok(())
    }

    /// How many Child SAs, and how many pairs, there are before and afterwards.
    fn lasting(&self) -> (usize, usize) {
        let updates = [0, 1].into_iter().filter_map(|end| self.gateway(end).site.update.as_ref());
        let pairs = updates.map(|update| update.pairs).min().unwrap_or(0);
        let mut children: Vec<_> = self.tunnel().pairs.iter().take(pairs).map(|pair| &pair.child).collect();
        children.dedup();
        (children.len(), pairs)
    }

    fn tell(&mut self, sites: Vec<String>, wrong: String) {
        let (step, lost, stands, wrong) = (UpdateStep::Forth, [0, 0], StandingFiles::Old, Some(wrong));
        let seen = UpdateSeen { step, sites, lost, longest_gap: 0, ike_kept: false, esp_kept: false, stands, wrong, took: 0 };
        let job = self.proof.job.number;
        (self.proof.tell)(Event::Updated { job, seen });
    }

    /// Does something to gateways while echo requests cross, and tells what came of it. How long it took.
    fn step(&mut self, ends: &[usize], step: UpdateStep) -> io::Result<Duration> {
        self.watched(ends, step, |walk| {
            let mut wrong = None;
            for end in ends {
                let args = match step {
                    UpdateStep::Forth | UpdateStep::Killed | UpdateStep::Reboot => "",
                    UpdateStep::Back => "--roll-back",
                    UpdateStep::Unconfirmed => "--confirm-within 15s",
                };
                wrong = wrong.or(walk.run_program(*end, args)?);
            }
            for end in ends {
                match step {
                    UpdateStep::Unconfirmed => walk.serve_for(*end, Duration::from_secs(UNCONFIRMED))?,
                    UpdateStep::Reboot => wrong = wrong.or(walk.reboot(*end)?),
                    _ => {}
                }
            }
            Ok(wrong)
        })
    }

    /// Kills the program some time after it began.
    fn killed(&mut self, end: usize, after: Duration) -> io::Result<()> {
        self.watched(&[end], UpdateStep::Killed, |walk| {
            let mut child = services::begin_program(walk.gateway(end), &walk.printed(end), "")?;
            let since = Instant::now();
            while since.elapsed() < after && child.try_wait()?.is_none() {
                walk.serve(end)?;
                sleep(Duration::from_millis(5));
            }
            let _ = child.kill();
            child.wait()?;
            walk.serve_for(end, Duration::ZERO)?;
            Ok(None)
        })?;
        // Whatever it came to, the next one finds the old files.
        if self.standing(end) != StandingFiles::Old {
            self.run_program(end, "--roll-back")?;
        }
        Ok(())
    }

    /// Whose files stand at an end.
    fn standing(&self, end: usize) -> StandingFiles {
        let gateway = self.gateway(end);
        let (old, new) = (&gateway.site.files, gateway.site.update.as_ref().map_or(&[][..], |update| &update.files));
        match (gateway.has(old, new), gateway.has(new, old)) {
            (true, _) => StandingFiles::Old,
            (_, true) => StandingFiles::New,
            _ => StandingFiles::Mixed,
        }
    }

    fn watched(
        &mut self,
        ends: &[usize],
        step: UpdateStep,
        act: impl FnOnce(&mut Self) -> io::Result<Option<String>>,
    ) -> io::Result<Duration> {
        let sites: Vec<String> = ends.iter().map(|end| self.site_name(*end).to_owned()).collect();
        self.begin(&format!("{}: {step:?}", sites.join(", ")));
        let before = self.sas_now()?;
        let streams = [0, 1].map(|from| {
            let (room, target) = self.ends(0, from);
            EchoStream::begin(room, target.seen)
        });
        sleep(WATCHED);
        let since = Instant::now();
        let mut wrong = act(self)?;
        let took = since.elapsed();
        let (wanted, pairs) = self.lasting();
        // Some pairs come with their packets.
        let whole = wait_for(RECOVERY, || Ok((self.go_on(pairs, 1).is_ok() && self.sa_pairs()? >= wanted).then_some(())))?;
        sleep(WATCHED);
        let [first, second] = streams;
        let (first, second) = (first?.end()?, second?.end()?);
        let now = self.sas_now()?;
        if whole.is_none() {
            wrong = wrong.or_else(|| Some(self.go_on(pairs, 3).err().unwrap_or_else(|| "the tunnel is not whole again".to_owned())));
        }
        let stands: Vec<StandingFiles> = ends.iter().map(|end| self.standing(*end)).collect();
        let stands = if stands.iter().all(|one| *one == stands[0]) { stands[0] } else { StandingFiles::Mixed };
        let millis = |duration: Duration| u64::try_from(duration.as_millis()).unwrap_or(u64::MAX);
        let seen = UpdateSeen {
            step,
            sites,
            lost: [first.lost, second.lost],
            longest_gap: millis(first.longest.max(second.longest)),
            ike_kept: before.ike == now.ike,
            esp_kept: before.esp == now.esp,
            stands,
            wrong,
            took: millis(took),
        };
        let job = self.proof.job.number;
        (self.proof.tell)(Event::Updated { job, seen });
        Ok(took)
    }

    fn sas_now(&self) -> io::Result<SasNow> {
        let sorted = |mut marks: Vec<String>| {
            marks.sort();
            marks
        };
        let [first, second] = [self.ike_marks(0)?, self.ike_marks(1)?];
        let spis = |end: usize| -> io::Result<Vec<u32>> {
            let mut all: Vec<u32> = self.sas(end)?.iter().flatten().map(|sa| sa.spi).collect();
            all.sort_unstable();
            Ok(all)
        };
        Ok(SasNow { ike: [sorted(first), sorted(second)], esp: [spis(0)?, spis(1)?] })
    }

    fn printed(&self, end: usize) -> PathBuf {
        self.proof.places.logs.join(format!("{}.take-up", self.site_name(end)))
    }

    /// Runs the gateway's program; what is wrong with it.
    fn run_program(&mut self, end: usize, args: &str) -> io::Result<Option<String>> {
        let (site, log) = (self.site(end), self.printed(end));
        let stage = self.proof.stage;
        let gateway = &stage.gateways[site];
        let (fine, text) = services::run_program(gateway, &log, args, |verb, service| self.proof.serve(site, verb, service))?;
        let said = complaint(&text, &gateway.site.name);
        Ok((!fine || said.contains(" says: ")).then_some(said))
    }

    fn serve(&mut self, end: usize) -> io::Result<()> {
        let (site, stage) = (self.site(end), self.proof.stage);
        services::serve(&stage.gateways[site], |verb, service| self.proof.serve(site, verb, service))
    }

    /// Does what is asked of services for a while, and as long as something waits to be confirmed or undone.
    fn serve_for(&mut self, end: usize, least: Duration) -> io::Result<()> {
        const PENDING: &str = "/var/lib/unified-span/pending";
        let since = Instant::now();
        while since.elapsed() < least
            || (since.elapsed() < RECOVERY && self.gateway(end).room.run(|| std::path::Path::new(PENDING).exists()))
        {
            self.serve(end)?;
            sleep(Duration::from_millis(20));
        }
        Ok(())
    }

    /// Loses power and starts as its boot does it.
    fn reboot(&mut self, end: usize) -> io::Result<Option<String>> {
        let site = self.site(end);
        self.proof.running[site].kill();
        let had_router = self.proof.routers[site].take().is_some();
        let wrong = self.gateway(end).boot()?;
        let log = self.proof.log(site);
        if had_router {
            self.proof.routers[site] = Some(Router::begin(self.gateway(end))?.0);
            self.gateway(end).room.tell("vtysh", &["-b"])?;
        }
        self.proof.running[site] = self.daemon(end)?.start(self.gateway(end), &log)?;
        let opens = self.tunnel().opens;
        for from in [0, 1].into_iter().filter(|from| opens[*from] == crate::job::JobOpening::ByHand) {
            self.set_out(from)?;
        }
        Ok(wrong)
    }
}
