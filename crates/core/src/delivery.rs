//! What goes to a gateway: its tree, with the program that takes it up there.

use std::collections::{BTreeMap, BTreeSet};

use crate::build::BuiltTunnel;
use crate::change::{Change, changes};
use uspan_description::description::{Description, Site};
use uspan_dialects::context::Context;
use uspan_dialects::delivery::{DeliveryPlan, Interruption, PROGRAM, PlannedStep, Recipient, program, rest};
use uspan_model::gateway::{Tree, TreeFile};
use uspan_model::parameter::Effect;

/// A file of a gateway: mode, path below `/`, and whether others have lines in it.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
pub struct DeliveredFile {
    /// Its path below `/`.
    pub path: String,
    /// Permission bits.
    pub mode: u32,
    /// Whether others may have lines in it: ours are put beside theirs then.
    pub joined: bool,
}

impl DeliveredFile {
    /// A file of a tree.
    pub fn of(path: &str, file: &TreeFile) -> DeliveredFile {
        // A name of our own is nobody else's.
        let joined = file.shared && !path.rsplit('/').next().unwrap_or_default().contains("uspan");
        DeliveredFile { path: path.to_owned(), mode: file.mode(), joined }
    }
}

/// The plan of a site's gateway.
pub fn delivery_plan(site: &Site) -> DeliveryPlan {
    DeliveryPlan::of(&site.platform.value, site.packet_filter)
}

/// Makes the programs of many gateways: what is the same for several of them is made once.
#[derive(Debug, Default)]
pub struct Programs(BTreeMap<[String; 2], String>);

impl Programs {
    /// The program that takes up the files of a site's gateway; nothing where others run it.
    pub fn of(&mut self, site: &Site, mut files: Vec<DeliveredFile>) -> Option<TreeFile> {
        if site.platform.value.is_run_by_others() {
            return None;
        }
        files.sort();
        let plan = delivery_plan(site);
        let alike = [site.platform.value.word.to_string(), site.packet_filter.word().to_owned()];
        let rest = self.0.entry(alike).or_insert_with(|| rest(&plan));
        let own = site.local();
        let recipient = Recipient {
            site: &site.name.value,
            addresses: own.address().iter().map(ToString::to_string).collect(),
            interfaces: std::iter::once(&site.outside).chain(&site.inside).map(|interface| interface.value.as_str()).collect(),
            services: site.platform.value.services.iter().map(AsRef::as_ref).collect(),
            joined: files.iter().filter(|file| file.joined).map(|file| file.path.clone()).collect(),
            files: files.into_iter().map(|file| (file.mode, file.path)).collect(),
        };
        Some(TreeFile::public(program(&recipient, &plan, rest)))
    }
}

/// The trees of a description's gateways, each with its program beside it.
pub fn with_programs(description: &Description, trees: &BTreeMap<String, Tree>) -> BTreeMap<String, Tree> {
    let mut programs = Programs::default();
    let mut all = trees.clone();
    for site in &description.sites {
        let Some(tree) = all.get_mut(&site.name.value) else { continue };
        let files = tree.files.iter().map(|(path, file)| DeliveredFile::of(path, file)).collect();
        if let Some(program) = programs.of(site, files) {
            tree.add(PROGRAM, program);
        }
    }
    all
}

/// What is done on a gateway, and when.
#[derive(Clone, Debug)]
pub struct Delivery<'a> {
    /// The site.
    pub site: &'a Site,
    /// What its program does, as far as the earlier files tell, in this order.
    pub steps: Vec<PlannedStep>,
}

/// The gateways of a description in the order in which their files are best taken up: who only answers comes first, so that the others
/// find it ready.
pub fn deliveries<'a>(
    description: &'a Description,
    tunnels: &[BuiltTunnel],
    before: &BTreeMap<String, Tree>,
    now: &BTreeMap<String, Tree>,
    context: &Context,
) -> Vec<Delivery<'a>> {
    let empty = Tree::default();
    let opening: BTreeSet<&str> = tunnels
        .iter()
        .flat_map(|tunnel| tunnel.ends.iter().zip(&tunnel.gateways))
        .filter(|(_, gateway)| {
            gateway.connections.iter().flat_map(|connection| &connection.children).any(|child| child.opening.value.start)
        })
        .map(|(name, _)| name.as_str())
        .collect();
    let mut sites: Vec<&Site> = description.sites.iter().filter(|site| now.contains_key(&site.name.value)).collect();
    sites.sort_by_key(|site| opening.contains(site.name.value.as_str()));
    let delivery = |site: &'a Site| {
        let [before, now] = [before, now].map(|trees| trees.get(&site.name.value).unwrap_or(&empty));
        let mut steps = delivery_plan(site).steps(before, now);
        // What the files say may change less than the step can interrupt at the most.
        let ends = |change: &Change| matches!(change.effect, Effect::Interrupts | Effect::Closes);
        let its = |step: &PlannedStep| matches!(step.interrupts, Interruption::ItsTunnels | Interruption::OpenedTunnels);
        if !before.files.is_empty() && steps.iter().any(its) && !changes(site, before, now, context).iter().any(ends) {
            steps.iter_mut().filter(|step| its(step)).for_each(|step| step.interrupts = Interruption::Nothing);
        }
        Delivery { site, steps }
    };
    sites.into_iter().map(delivery).collect()
}
