//! Two gateways that are to negotiate, or that a packet crosses: from folders, or from a description.

use std::collections::{BTreeMap, BTreeSet};
use std::path::Path;

use uspan_core::{Actor, Build, Description, Facts, Finding, Gateway, Looked, Site, Source, Stands, Tree, read_tree};

use super::gateways;
use crate::failure::Failure;

/// A gateway that takes part, with what its files are called where the user opens them.
pub struct Part {
    /// What it is called.
    pub name: String,
    /// Its platform.
    pub facts: &'static Facts,
    /// Its files.
    pub tree: Tree,
    /// What they say.
    pub gateway: Gateway,
    /// Its addresses, where they are known beside that.
    pub stands: Stands,
    /// Whether it translates what leaves for the internet, where that is known.
    pub shares_internet: Option<bool>,
    /// What was found while they were read.
    pub findings: Vec<Finding>,
    /// Its files by the path that places name, each called as the user would open it.
    pub sources: BTreeMap<String, Source>,
}

impl Part {
    /// As it negotiates.
    pub fn actor(&self) -> Actor<'_> {
        let looked = Looked { name: &self.name, gateway: &self.gateway, ends_open: self.facts.ends_by_address, tree: Some(&self.tree) };
        Actor { looked, manner: self.facts.manner, stands: self.stands }
    }
}

/// Two folders, each of which stands for a gateway's `/`.
pub fn of_folders(folders: [&Path; 2], platforms: [Option<&str>; 2]) -> Result<[Part; 2], Failure> {
    let mut reads =
        [gateways::read(folders[0], platforms[0], "--left-platform")?, gateways::read(folders[1], platforms[1], "--right-platform")?];
    if reads[0].name == reads[1].name {
        reads[0].name = "left".to_owned();
        reads[1].name = "right".to_owned();
    }
    Ok(reads.map(|read| Part {
        name: read.name,
        facts: read.platform.facts(),
        tree: read.tree,
        gateway: read.gateway,
        stands: Stands::default(),
        shares_internet: None,
        findings: read.findings,
        sources: read.sources,
    }))
}

/// Each pair of sites that has tunnels, once; with a name those of one tunnel.
pub fn pairs(planned: &Build, tunnel: Option<&str>) -> Vec<[String; 2]> {
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

/// Two sites with their files: those of a build, or those that stand in its output folder.
pub fn of_sites(
    description: &Description,
    ends: &[String; 2],
    standing: &BTreeMap<String, Tree>,
    built: Option<&Path>,
) -> Option<[Part; 2]> {
    let [one, other] = ends.each_ref().map(|name| of_site(description, name, standing, built));
    Some([one?, other?])
}

fn of_site(description: &Description, name: &str, standing: &BTreeMap<String, Tree>, built: Option<&Path>) -> Option<Part> {
    let site: &Site = description.sites.iter().find(|site| site.name.value == name)?;
    let tree = standing.get(name)?.clone();
    let (gateway, findings) = read_tree(site.platform.value, &tree);
    let root = built.map(|folder| folder.join(name));
    let path = |below: &str| root.as_ref().map_or_else(|| format!("{name}/{below}"), |root| root.join(below).display().to_string());
    let sources = tree.files.iter().map(|(below, file)| (below.clone(), Source::new(path(below), file.text.as_str()))).collect();
    let (facts, stands) = (site.platform.value.facts(), site.stands());
    let shares_internet = Some(site.shares_internet);
    Some(Part { name: name.to_owned(), facts, tree, gateway, stands, shares_internet, findings, sources })
}
