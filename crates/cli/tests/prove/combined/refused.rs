//! What is refused, let through: a refusal is right only if the daemons cannot.
//!
//! What the check refuses can be built all the same; what has no proposal left, or cannot be written, cannot.

use std::collections::BTreeMap;
use std::sync::atomic::AtomicBool;

use uspan_core::{Build, Builder, Description, Finding, Source, Supplied, any_stops, retire};
use uspan_lab::{Event, Job, Options, cast, default_cache, ground, run};

use super::Workshop;
use super::draft::{Choice, Written, written};
use crate::fidelity::Rng;
use crate::suite::{ordered_pairs, seed_of};
use crate::{known, say};

/// A description that is refused, and can be built all the same.
struct LetThrough {
    code: &'static str,
    reason: String,
    written: Written,
    choice: Choice,
    job: Job,
    /// The files of the gateways, without remarks.
    files: Vec<String>,
}

/// How much is tried.
#[derive(Clone, Copy)]
pub struct Amount {
    /// Descriptions of each code.
    pub of_each: usize,
    /// Of all together.
    pub most: usize,
    /// After how many draws without another one it is enough.
    pub in_vain: usize,
}

/// What was seen to fail each time that it was let through.
pub const CANNOT: &[&str] = &["US222", "US322", "US327"];

/// What comes up without what is asked for: the refusal is one of words, and there is nothing to try.
const OF_WORDS: &[(&str, &str)] = &[
    ("US318", "addresses of an interface at an end that has none"),
    ("US328", "a session without interfaces, addresses or systems"),
    ("US329", "something for networks where none is carried"),
    ("US416", "ESP without encryption comes up, and protects nothing"),
    ("US420", "aggressive mode of a version that has none"),
    ("US603", "a replay window where the daemon has its own"),
];

/// Tries what is refused; returns for each code how many were tried, and those that came up whole.
pub fn tried(workshop: &Workshop, seed: u64, only: Option<&[&str]>, amount: Amount) -> BTreeMap<&'static str, (usize, Vec<String>)> {
    let found = drawn(workshop, seed, only, amount);
    let mut told: BTreeMap<&'static str, (usize, Vec<String>)> = BTreeMap::new();
    for some in found.chunks(super::AT_ONCE) {
        for (case, failed) in some.iter().zip(proven(some)) {
            let (count, whole) = told.entry(case.code).or_default();
            *count += 1;
            if failed.is_empty() {
                let text = format!(
                    "{} {:?} {:?}\n{}\n{}",
                    case.code,
                    case.choice.platforms,
                    workshop.words(&case.choice),
                    case.reason,
                    case.written.text
                );
                say(&format!("COMES UP: {text}"));
                whole.push(text);
            } else {
                let words = workshop.words(&case.choice);
                say(&format!("{} does not: {:?} {words:?} {} / {}", case.code, case.choice.platforms, case.reason, failed[0]));
            }
        }
    }
    told
}

/// Descriptions with one kind of error alone, as many of each as are wanted.
fn drawn(workshop: &Workshop, seed: u64, only: Option<&[&str]>, amount: Amount) -> Vec<LetThrough> {
    let mut rng = Rng::from(seed);
    let (mut found, mut counts, mut in_vain): (Vec<LetThrough>, BTreeMap<&str, usize>, usize) = (Vec::new(), BTreeMap::new(), 0);
    let mut idle: BTreeMap<&str, usize> = BTreeMap::new();
    let pairs = ordered_pairs();
    while in_vain < amount.in_vain && found.len() < amount.most {
        in_vain += 1;
        let mut choice = Choice { platforms: *rng.of(&pairs), seed: seed_of((seed, found.len(), in_vain)), values: BTreeMap::new() };
        for factor in workshop.shuffled(&mut rng).into_iter().take(12) {
            let value = rng.below(workshop.factors[factor].values.len());
            if workshop.add(&mut choice, factor, value) {
                continue;
            }
            let before = choice.clone();
            choice.values.insert(factor, value);
            let case = let_through(workshop, &choice).filter(|case| match only {
                Some(only) => only.contains(&case.code),
                None => OF_WORDS.iter().all(|(code, _)| *code != case.code),
            });
            if let Some(mut case) = case.filter(|case| counts.get(case.code).copied().unwrap_or(0) < amount.of_each) {
                // What changes no file is refused because it would do nothing, whatever comes up without it.
                if through(workshop, &before).is_some_and(|before| files(&before.built) == case.files) {
                    *idle.entry(case.code).or_default() += 1;
                    choice = before;
                    continue;
                }
                *counts.entry(case.code).or_default() += 1;
                case.job.number = found.len();
                found.push(case);
                in_vain = 0;
                if found.len() % 20 == 0 {
                    say(&format!("{} found: {counts:?}", found.len()));
                }
                break;
            }
            choice.values.remove(&factor);
        }
    }
    say(&format!(
        "{} descriptions that are refused, and can be built: {counts:?}; of others no file would say anything: {idle:?}",
        found.len()
    ));
    found
}

/// A choice that the check alone refuses, for one reason.
fn let_through(workshop: &Workshop, choice: &Choice) -> Option<LetThrough> {
    let Through { errors, written, description, supplied, built } = through(workshop, choice)?;
    let first = errors.first()?;
    if errors.iter().any(|other| other.rule.code != first.rule.code) {
        return None;
    }
    let retirements = retire(&description, &supplied, &built, |_| true);
    let job = cast(&description, &built, &built.trees, &BTreeMap::new(), &retirements, |_| true);
    let (code, reason, files) = (first.rule.code, first.message.clone(), files(&built));
    Some(LetThrough { code, reason, written, choice: choice.clone(), job, files })
}

/// What was built, whatever the check says.
struct Through {
    /// What it says that would stop the work.
    errors: Vec<Finding>,
    written: Written,
    description: Description,
    supplied: Supplied,
    built: Build,
}

fn through(workshop: &Workshop, choice: &Choice) -> Option<Through> {
    let written = written(&workshop.factors, choice)?;
    let (description, findings) = Description::parse(&Source::new("refused.span.toml", written.text.as_str()), known::context());
    if any_stops(&findings) {
        return None;
    }
    let supplied = workshop.supplied(&written);
    let builder = Builder::new(&description, &supplied);
    let errors = builder.check().into_iter().filter(Finding::stops).collect();
    let mut built = Build::default();
    for tunnel in &description.tunnels {
        let (tunnel, trees) = builder.tunnel(tunnel, true).ok()?.built?;
        for (name, tree) in tunnel.ends.iter().zip(trees) {
            let whole = built.trees.entry(name.clone()).or_default();
            // Two tunnels that would write one file cannot be built beside each other.
            if tree.files.keys().any(|path| whole.files.contains_key(path)) {
                return None;
            }
            whole.extend(tree);
        }
        built.tunnels.push(tunnel);
    }
    Some(Through { errors, written, description, supplied, built })
}

/// What the files of the gateways say.
fn files(built: &Build) -> Vec<String> {
    let says = |text: &str| -> String {
        text.lines().filter(|line| !line.trim_start().starts_with('#')).map(|line| format!("{line}\n")).collect()
    };
    built
        .trees
        .iter()
        .flat_map(|(site, tree)| tree.files.iter().map(move |(path, file)| format!("{site} {path}\n{}", says(&file.text))))
        .collect()
}

/// What failed of each.
fn proven(cases: &[LetThrough]) -> Vec<Vec<String>> {
    let cache = default_cache();
    let options =
        Options { program: env!("CARGO_BIN_EXE_uspan").into(), ground: ground(&cache).expect("a ground"), cache, workers: 2, keep: None };
    let jobs: Vec<Job> = cases
        .iter()
        .enumerate()
        .map(|(number, case)| {
            let mut job = case.job.clone();
            job.number = number;
            job
        })
        .collect();
    let mut failed = vec![Vec::new(); cases.len()];
    run(jobs, &options, &AtomicBool::new(false), &mut |event| match event {
        Event::Row(row) => {
            let ends = row.ends.iter().filter(|end| end.failed());
            failed[row.job].extend(ends.map(|end| format!("{:?} {}: {end:?}", row.check, row.about)));
        }
        Event::Broken { job, how } => failed[job].push(format!("the lab itself: {how}")),
        _ => {}
    })
    .expect("it runs");
    failed
}
