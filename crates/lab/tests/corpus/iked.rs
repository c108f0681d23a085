//! The suite of OpenIKED: `regress/live`, one Makefile whose recipes make the files of each scenario with a shell.

use std::collections::BTreeMap;
use std::fs;
use std::path::Path;
use std::process::Command;

use uspan_core::{Tree, TreeFile};

use super::scenario::{Outcome, Scenario};

const ADDRESSES: [&str; 2] = ["192.0.2.20", "192.0.2.21"];

pub fn scenarios(source: &Path) -> Vec<Scenario> {
    let folder = source.join("regress/live");
    let makefile = fs::read_to_string(folder.join("Makefile")).unwrap_or_default();
    let variables = variables(&makefile);
    let mut found = Vec::new();
    for (target, recipe) in recipes(&makefile) {
        found.extend(scenario(&folder, &target, &recipe, &variables));
    }
    found
}

/// `NAME = VALUE`, whose value may go on behind backslashes.
fn variables(makefile: &str) -> BTreeMap<String, String> {
    let mut all = BTreeMap::new();
    let whole = makefile.replace("\\\n", "\u{1}");
    for line in whole.lines().filter(|line| !line.starts_with('\t')) {
        if let Some((name, value)) =
            line.split_once('=').filter(|(name, _)| name.trim().bytes().all(|byte| byte.is_ascii_uppercase() || byte == b'_'))
        {
            all.insert(name.trim().to_owned(), value.replace('\u{1}', "\\\n"));
        }
    }
    all
}

/// The commands of each target that the suite runs.
fn recipes(makefile: &str) -> Vec<(String, Vec<String>)> {
    let whole = makefile.replace("\\\n", "\u{1}");
    let mut all: Vec<(String, Vec<String>)> = Vec::new();
    for line in whole.lines() {
        match line.strip_prefix('\t') {
            Some(command) => {
                if let Some((_, commands)) = all.last_mut() {
                    commands.push(command.replace('\u{1}', "\\\n"));
                }
            }
            None if line.starts_with("run-") && line.trim_end().ends_with(':') => {
                all.push((line.trim_end().trim_end_matches(':').to_owned(), Vec::new()));
            }
            None if line.contains(':') && !line.starts_with('.') && !line.contains('=') => all.push((String::new(), Vec::new())),
            None => {}
        }
    }
    all.retain(|(target, _)| !target.is_empty());
    all
}

fn expanded(text: &str, target: &str, folder: &Path, variables: &BTreeMap<String, String>) -> String {
    let mut text = text.to_owned();
    for _ in 0..8 {
        for (name, value) in variables {
            text = text.replace(&format!("${{{name}}}"), value);
        }
    }
    text.replace("${.CURDIR}", &folder.display().to_string()).replace("$@", target).replace("$$", "$")
}

fn scenario(folder: &Path, target: &str, recipe: &[String], variables: &BTreeMap<String, String>) -> Option<Scenario> {
    let first = recipe.iter().find(|command| command.contains("SETUP_CONFIG"))?;
    let checks: String = recipe.iter().filter(|command| command.contains("TEST_FLOWS")).map(String::as_str).collect();
    // Virtual addresses are remote access; what the packet filter does is not in the files.
    if ["config_address", "SETUP_SYSCTL", "ipcomp"].iter().any(|word| first.contains(word)) {
        return None;
    }
    let mut own = variables.clone();
    own.insert("LEFT_ADDR".to_owned(), ADDRESSES[0].to_owned());
    own.insert("RIGHT_ADDR".to_owned(), ADDRESSES[1].to_owned());
    own.insert("DEPLOY_CONFIGS".to_owned(), "true".to_owned());
    let place = tempfile::tempdir().ok()?;
    let script = expanded(first, target, folder, &own);
    let ran = Command::new("bash").arg("-c").arg(&script).current_dir(place.path()).output().ok()?;
    if !ran.status.success() {
        return None;
    }
    let mut trees = [Tree::default(), Tree::default()];
    for (end, side) in ["left", "right"].iter().enumerate() {
        let text = fs::read_to_string(place.path().join(format!("{target}_{side}.conf"))).ok()?;
        trees[end].add("etc/iked.conf", TreeFile::public(text.replace("\\n", "\n")));
        trees[end].add("etc/network/interfaces", TreeFile::public(format!("iface eth0 inet static\n\taddress {}/24\n", ADDRESSES[end])));
    }
    let outcome = match () {
        () if checks.contains("-ne 0 ]]; then exit 1") => Outcome::Up,
        () if checks.contains("-ne 1 ]]; then exit 1") => Outcome::Down,
        () => Outcome::Untold,
    };
    Some(Scenario {
        name: target.to_owned(),
        platforms: ["openiked"; 2],
        hosts: ["left".to_owned(), "right".to_owned()],
        whole: trees.clone(),
        trees,
        opened: None,
        outcome,
        protection: None,
    })
}
