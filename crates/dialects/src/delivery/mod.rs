//! What goes to a gateway: files, and a plan of steps that take them up.
//!
//! The steps stand here in the order in which they are done, for whoever shows them and for the program that does them on the gateway
//! (`take-up.sh`), which is written from the same rows. Each step is for files whose paths match; which of them changed is found on
//! the gateway itself.

mod program;
mod step;

pub use program::{PROGRAM, Recipient, program, rest};
pub(crate) use step::{ANY, ARRIVED, NOTHING, WENT};
pub use step::{DeliveryStep, FileKind, Interruption, PartSteps, PlannedStep};

use uspan_model::gateway::Tree;

use crate::packet_filter::PacketFilter;
use crate::profile::Profile;
use crate::{network, routing};

/// The parts of a gateway, each with its steps.
#[derive(Clone, Copy, Debug)]
pub struct DeliveryPlan {
    daemon: &'static PartSteps,
    filter: &'static PartSteps,
}

impl DeliveryPlan {
    /// The plan of a gateway with this daemon and this packet filter.
    pub fn of(profile: &Profile, filter: &dyn PacketFilter) -> DeliveryPlan {
        DeliveryPlan { daemon: profile.family.steps(), filter: filter.steps() }
    }

    /// What is done while the old files stand, in its order: sessions and SAs end while their interfaces and rules are there.
    pub fn leaving(&self) -> impl Iterator<Item = &'static DeliveryStep> + use<> {
        [&routing::STEPS, self.daemon, &network::STEPS, self.filter].into_iter().flat_map(|part| part.leaving)
    }

    /// What is done once the new files stand, in its order: rules first, so that nothing gets out beside a tunnel that is not there yet.
    pub fn coming(&self) -> impl Iterator<Item = &'static DeliveryStep> + use<> {
        self.parts().into_iter().flat_map(|part| part.coming)
    }

    /// All parts, in the order in which they come.
    fn parts(&self) -> [&'static PartSteps; 5] {
        [&step::SYSTEM, self.filter, &network::STEPS, self.daemon, &routing::STEPS]
    }

    /// The steps that files ask for: those that stood there `before` against those that are to stand there `now`.
    pub fn steps(&self, before: &Tree, now: &Tree) -> Vec<PlannedStep> {
        let mut changes: Vec<(FileKind, &str)> = Vec::new();
        for (path, file) in &now.files {
            match before.files.get(path) {
                None => changes.push((FileKind::New, path)),
                Some(old) if old != file => changes.push((FileKind::Changed, path)),
                Some(_) => {}
            }
        }
        changes.extend(before.files.keys().filter(|path| !now.files.contains_key(*path)).map(|path| (FileKind::Removed, path.as_str())));
        let planned = |step: &'static DeliveryStep| {
            let concerned: Vec<_> = changes.iter().filter(|(kind, path)| step.concerns(*kind, path)).collect();
            // A tunnel that was not there is not interrupted.
            let interrupts = match step.interrupts {
                Interruption::ItsTunnels | Interruption::OpenedTunnels if concerned.iter().all(|(kind, _)| *kind == FileKind::New) => {
                    Interruption::Nothing
                }
                interrupts => interrupts,
            };
            let files: Vec<String> = concerned.into_iter().map(|(_, path)| (*path).to_owned()).collect();
            (!files.is_empty()).then_some(PlannedStep { step, files, interrupts })
        };
        self.leaving().chain(self.coming()).filter_map(planned).collect()
    }
}
