//! Gateways that are compared, that negotiate, or that a packet crosses: from folders, or from a description.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;
use std::sync::Arc;

use uspan_core::{
    Actor, Aspect, Build, BuiltTunnel, Context, Defined, Description, Finding, Gateway, KnownAddresses, KnownNetwork, Network, OwnEnd,
    Profile, ReadGateway, Severity, Site, Source, Spot, Tree, Walk, any_stops, covered, defined, discreet, read_tree,
};

use super::check::plan_of;
use crate::args::EndsArgs;
use crate::failure::Failure;
use crate::files::input::{self, Input};
use crate::files::trees;
use crate::show::{STOP, ShownEnds, findings, path_shown, styled};

/// A gateway that takes part, with what its files are called where the user opens them.
pub struct Participant {
    /// What it is called.
    pub name: String,
    /// Its platform.
    pub facts: Arc<Profile>,
    /// Its files.
    pub tree: Tree,
    /// What they say.
    pub gateway: Gateway,
    /// Its addresses, where they are known beside that.
    pub stands: KnownAddresses,
    /// Whether it translates what leaves for the internet, where that is known.
    pub shares_internet: Option<bool>,
    /// Its networks, where those are known.
    pub networks: Vec<KnownNetwork>,
    /// What was found while they were read.
    pub findings: Vec<Finding>,
    /// What defines its tunnels, where its files were read from a folder.
    pub defined: Defined,
    /// Its files by the path that places name, each called as the user would open it.
    pub sources: BTreeMap<String, Source>,
}

impl Participant {
    /// As it negotiates.
    pub fn actor(&self) -> Actor<'_> {
        Actor { reading: self.reading(), behaviour: &self.facts.behaviour, stands: self.stands }
    }

    /// As it is compared.
    pub fn reading(&self) -> ReadGateway<'_> {
        ReadGateway { name: &self.name, gateway: &self.gateway, ends_open: self.facts.own_end == OwnEnd::ByAddress, tree: Some(&self.tree) }
    }
}

/// What was found while gateways were read, and the files that it is about by what they are called.
pub fn found<'a>(parts: impl IntoIterator<Item = &'a Participant>) -> (Vec<Finding>, BTreeMap<String, Source>) {
    let (mut found, mut sources) = (Vec::new(), BTreeMap::new());
    for part in parts {
        found.extend(part.findings.iter().cloned());
        sources.extend(part.sources.values().map(|source| (source.name().to_string(), source.clone())));
    }
    (found, sources)
}

/// The same to standard error.
pub fn print_findings(parts: &[Participant; 2]) {
    let (found, sources) = found(parts);
    findings::print_among(&found, &sources);
}

/// What is said in place of a verdict that is good where a daemon would not take the files as they are; nothing where it would.
pub fn unsure<'a>(parts: impl IntoIterator<Item = &'a Participant>) -> Option<String> {
    let errors = parts.into_iter().flat_map(|part| &part.findings).filter(|finding| finding.rule.severity == Severity::Error).count();
    let (count, what) = (format!("{errors} error{}", if errors == 1 { "" } else { "s" }), "what the daemon makes of them is not known");
    (errors > 0).then(|| format!("{}: {count} in the files, and {what}. Next: mend that first.", styled(STOP, "It cannot be said")))
}

/// Two gateways as they are shown.
pub fn shown(parts: &[Participant; 2]) -> ShownEnds<'_> {
    ShownEnds {
        names: parts.each_ref().map(|part| part.name.as_str()),
        titles: parts.each_ref().map(|part| &*part.facts.title),
        addresses: parts.each_ref().map(|part| part.stands.reached),
        files: parts.each_ref().map(|part| &part.sources),
    }
}

/// A description that does not build, and what stops it.
pub type Stopped = (Input, Vec<Finding>);

/// What was found that does not stop the work, and the texts that it is about by what they are called.
#[derive(Default)]
pub struct Told {
    pub found: Vec<Finding>,
    pub sources: BTreeMap<String, Source>,
}

impl Told {
    /// Of a description that was planned.
    pub fn of(planned: &Build, input: &Input) -> Told {
        let sources = input.source.texts().map(|(_, text)| (text.name().to_string(), text.clone())).collect();
        Told { found: planned.findings.clone(), sources }
    }

    /// With what was found while gateways were read.
    pub fn with<'a>(self, parts: impl IntoIterator<Item = &'a Participant>) -> Told {
        let (mut found, mut sources) = found(parts);
        found.extend(self.found);
        sources.extend(self.sources);
        Told { found, sources }
    }
}

/// Pairs of gateways, and what was found about their description.
pub type Meant = (Vec<[Participant; 2]>, Told);

/// The pairs of gateways that are meant: two folders, or each pair of sites that a description has tunnels between; with a
/// name those of one tunnel.
pub fn meant(ends: &EndsArgs, tunnel: Option<&str>) -> Result<Result<Meant, Stopped>, Failure> {
    if let Some(second) = &ends.second {
        let both = of_folders([&ends.first, second], [ends.first_platform.as_deref(), ends.second_platform.as_deref()])?;
        return Ok(Ok((vec![both], Told::default())));
    }
    let (mut input, planned) = plan_of(input::read(&ends.first, &ends.supply)?, tunnel);
    let Some(description) = input.description.take().filter(|_| !any_stops(&planned.findings)) else {
        return Ok(Err((input, planned.findings)));
    };
    let standing = match &ends.built {
        Some(folder) => trees::standing(folder, &planned)?,
        None => planned.trees.clone(),
    };
    let of_site = |name: &String| of_site(&description, name, &standing, ends.built.as_deref(), &planned.tunnels);
    let parts = pairs(&planned, tunnel).into_iter().filter_map(|[one, other]| Some([of_site(&one)?, of_site(&other)?]));
    Ok(Ok((parts.collect(), Told::of(&planned, &input))))
}

/// The two gateways of a tunnel as they are written, before anybody installs them.
pub fn of_tunnel(description: &Description, built: &BuiltTunnel, planned: &Build) -> Option<[Participant; 2]> {
    let of_site = |end: usize| of_site(description, &built.ends[end], &planned.trees, None, &planned.tunnels);
    Some([of_site(0)?, of_site(1)?])
}

/// Two folders, each of which stands for a gateway's `/`.
pub fn of_folders(folders: [&Path; 2], platforms: [Option<&str>; 2]) -> Result<[Participant; 2], Failure> {
    let mut parts = [of_folder(folders[0], platforms[0], "--first-platform")?, of_folder(folders[1], platforms[1], "--second-platform")?];
    if parts[0].name == parts[1].name {
        parts[0].name = "first".to_owned();
        parts[1].name = "second".to_owned();
    }
    Ok(parts)
}

/// Reads a gateway from a folder that stands for its `/`; `word` is its platform, said with an option of this name.
pub fn of_folder(folder: &Path, word: Option<&str>, option: &str) -> Result<Participant, Failure> {
    let (tree, led) = trees::gateway(folder)?;
    let context = input::context();
    let platform = platform_of(&context, folder, &tree, word, option)?;
    let (gateway, found) = read_tree(&context, &platform, &tree);
    let defined = defined(&platform, &tree, &gateway);
    // From here on nothing is at hand that may not be shown.
    let tree = covered(&tree);
    let mut found = discreet(found, &tree);
    found.extend(led);
    // People open files by the path that they gave.
    let path = |below: &str| path_shown(&folder.join(below));
    let sources = tree.files.iter().map(|(below, file)| (below.clone(), Source::new(path(below), file.text.as_str()))).collect();
    for place in found.iter_mut().flat_map(|finding| finding.place.iter_mut().chain(finding.related.iter_mut().map(|(place, _)| place))) {
        place.file = path(&place.file).into();
    }
    let name = folder.canonicalize().ok().and_then(|full| Some(path_shown(Path::new(full.file_name()?))));
    Ok(Participant {
        name: name.unwrap_or_else(|| "first".to_owned()),
        facts: platform,
        tree,
        gateway,
        stands: KnownAddresses::default(),
        shares_internet: None,
        networks: Vec::new(),
        findings: found,
        defined,
        sources,
    })
}

fn platform_of(context: &Context, folder: &Path, tree: &Tree, word: Option<&str>, option: &str) -> Result<Arc<Profile>, Failure> {
    let there = context.profiles_of(tree);
    let words = |list: &[&Arc<Profile>]| list.iter().map(|profile| &*profile.word).collect::<Vec<_>>().join(", ");
    match (word, there.as_slice()) {
        (Some(word), _) => context.reader(word).cloned().ok_or_else(|| {
            let known: Vec<_> = context.readable().collect();
            Failure::Usage(format!("`{word}` is no platform; there are {}", words(&known)))
        }),
        (None, [one]) => Ok(Arc::clone(one)),
        (None, []) => Err(Failure::Usage(format!("there are no files of a known platform below `{}/etc`", path_shown(folder)))),
        (None, several) => Err(Failure::Usage(format!(
            "there are files of {} below `{}/etc`; say which with {option}",
            words(several),
            path_shown(folder)
        ))),
    }
}

/// Each pair of sites that has tunnels, once; with a name those of one tunnel.
fn pairs(planned: &Build, tunnel: Option<&str>) -> Vec<[String; 2]> {
    let mut pairs: Vec<[String; 2]> = Vec::new();
    let mut seen: BTreeSet<[String; 2]> = BTreeSet::new();
    for built in planned.tunnels.iter().filter(|built| tunnel.is_none_or(|name| name == built.name)) {
        let mut key = built.ends.clone();
        key.sort();
        if seen.insert(key) {
            pairs.push(built.ends.clone());
        }
    }
    pairs
}

/// The two ends of a tunnel, of whose files only its own are at hand.
pub fn of_ends(ends: [&Site; 2], trees: [Tree; 2], built: Option<&Path>, made: &BuiltTunnel) -> [Participant; 2] {
    [0, 1].map(|end| handed_over(of_tree(ends[end], &trees[end], built), std::slice::from_ref(made)))
}

fn of_site(
    description: &Description,
    name: &str,
    standing: &BTreeMap<String, Tree>,
    built: Option<&Path>,
    made: &[BuiltTunnel],
) -> Option<Participant> {
    let site: &Site = description.sites.iter().find(|site| site.name.value == name)?;
    Some(handed_over(of_tree(site, standing.get(name)?, built), made))
}

/// The gateway of others at which a packet ends: what they have around its daemon decides, and nobody here knows that.
pub fn hidden(parts: &[Participant; 2], walked: &Walk) -> Option<String> {
    let hop = [Some(&walked.there), walked.back.as_ref()].into_iter().flatten().flat_map(|leg| &leg.hops).find(|hop| !hop.passes)?;
    let Spot::Gateway(end) = hop.spot else { return None };
    (hop.aspect != Aspect::Sa && parts[end].facts.is_run_by_others()).then(|| parts[end].name.clone())
}

/// What holds only if those who run a gateway set it as its list says; nothing where all are ours.
pub fn provided<'a>(parts: impl IntoIterator<Item = &'a Participant>) -> String {
    let mut names: Vec<_> = parts.into_iter().filter(|part| part.facts.is_run_by_others()).map(|part| part.name.as_str()).collect();
    names.sort_unstable();
    names.dedup();
    match names.as_slice() {
        [] => String::new(),
        [one] => format!(", if {one} is set as its list says"),
        several => format!(", if {} gateways of others are set as their lists say", several.len()),
    }
}

/// With what goes from hand to hand and stands in no list of parameters: secrets and keys, as the description has them.
fn handed_over(mut part: Participant, made: &[BuiltTunnel]) -> Participant {
    let ends = made.iter().flat_map(|tunnel| tunnel.ends.iter().zip(&tunnel.gateways));
    for (_, planned) in ends.filter(|(name, _)| **name == part.name) {
        part.facts.family.hand_over(&mut part.gateway, planned);
    }
    part
}

fn of_tree(site: &Site, tree: &Tree, built: Option<&Path>) -> Participant {
    let name = &site.name.value;
    let (gateway, findings) = read_tree(&input::context(), &site.platform.value, tree);
    let tree = covered(tree);
    let findings = discreet(findings, &tree);
    let root = built.map(|folder| folder.join(name));
    let path = |below: &str| root.as_ref().map_or_else(|| format!("{name}/{below}"), |root| path_shown(&root.join(below)));
    let sources = tree.files.iter().map(|(below, file)| (below.clone(), Source::new(path(below), file.text.as_str()))).collect();
    let (facts, stands) = (Arc::clone(&site.platform.value), site.stands());
    let shares_internet = Some(site.shares_internet);
    let known = |network: &Network| KnownNetwork { net: network.prefix.value, beyond: network.beyond.is_some() };
    let networks = site.networks.iter().map(known).collect();
    Participant {
        name: name.clone(),
        facts,
        tree,
        gateway,
        stands,
        shares_internet,
        networks,
        findings,
        defined: Defined::default(),
        sources,
    }
}
