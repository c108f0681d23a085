//! What is refused, let through: a refusal is right only if the daemons cannot.
//!
//! What the check refuses can be built all the same; what has no proposal left, or cannot be written, cannot.

use std::collections::BTreeMap;

use uspan_core::{Build, Builder, Description, Finding, Source, Supplied, any_stops, retire};
use uspan_lab::{Job, cast};

use super::draft::{Choice, Written, written};
use super::{Outcome, Workshop};
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
pub const CANNOT: &[&str] = &["US208", "US215", "US220", "US222", "US307", "US309", "US322", "US326", "US327", "US334", "US536"];

/// What comes up without what is asked for: the refusal is one of words, and there is nothing to try.
const OF_WORDS: &[(&str, &str)] = &[
    ("US318", "addresses of an interface at an end that has none"),
    ("US328", "a session without interfaces, addresses or systems"),
    ("US329", "something for networks where none is carried"),
    ("US336", "transport mode between networks: tunnel mode comes instead"),
    ("US416", "ESP without encryption comes up, and protects nothing"),
    ("US420", "aggressive mode of a version that has none"),
    ("US603", "a replay window where the daemon has its own"),
];

/// What brings a refusal, so that chance alone need not find it: values of keys, of which the last one is refused. What cannot be written
/// (US219, US323, US339, US341, US417), and what the reader or the rehearsal refuses as well (US226, US421, US530), is not among them.
const BROUGHT_BY: &[(&str, &[&[&str]])] = &[
    (
        "US215",
        &[&["first.gateway.address=IPv4", "second.gateway.address=IPv6"], &["second.gateway.address=IPv4", "first.gateway.address=IPv6"]],
    ),
    (
        "US220",
        &[
            &["first.gateway.address=dynamic", "first.identity=name", "initiator=the second site"],
            &["second.gateway.address=dynamic", "second.identity=mail", "initiator=the first site"],
            &["second.gateway.address=dynamic", "opens=at-once", "initiator=either"],
        ],
    ),
    (
        "US222",
        &[
            &["first.gateway.own-address=a NAT device before it", "nat-traversal=off"],
            &["nat-traversal=off", "second.gateway.own-address=a NAT device before it"],
        ],
    ),
    ("US307", &[&["ike.form=lists", "beside.shape=a second tunnel"], &["beside.shape=a second tunnel", "pfs=false"]]),
    ("US309", &[&["first.networks=one", "second.networks=IPv6"], &["second.networks=several sizes", "first.networks=an IPv6 host"]]),
    (
        "US322",
        &[
            &["opens=on-traffic", "initiator=the second site", "one-way=the first site"],
            &["opens=on-traffic", "one-way=the second site", "initiator=the first site"],
        ],
    ),
    (
        "US327",
        &[
            &["first.gateway.own-address=a NAT device before it", "carrier=gre"],
            &["carries=gateways", "second.gateway.own-address=a NAT device before it"],
            &["second.identity=name", "second.gateway.address=dynamic", "carrier=gre"],
        ],
    ),
    (
        "US334",
        &[
            &["second.style=route-based", "first.style=policy-based", "carries=everything at the second site"],
            &["carries=everything at the first site", "second.style=policy-based"],
        ],
    ),
    ("US208", &[&["first.networks=the same at both", "second.networks=the same at both"]]),
    ("US326", &[&["strength=common", "version=ikev1", "extended-sequence-numbers=true"]]),
    ("US536", &[&["first.identity=subject", "authentication=public-keys"], &["authentication=public-keys", "second.identity=subject"]]),
];

/// Tries what is refused; returns for each code how many were tried, and those that came up whole.
pub fn tried(workshop: &Workshop, seed: u64, only: Option<&[&str]>, amount: Amount) -> BTreeMap<&'static str, (usize, Vec<String>)> {
    let found = drawn(workshop, seed, only, amount);
    let mut told: BTreeMap<&'static str, (usize, Vec<String>)> = BTreeMap::new();
    for some in found.chunks(super::AT_ONCE) {
        let jobs = some.iter().map(|case| case.job.clone()).collect();
        for (case, Outcome { failed, .. }) in some.iter().zip(super::in_the_lab(jobs)) {
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
                let first = failed[0].lines().next().unwrap_or_default();
                say(&format!("{} does not: {:?} {words:?} {} / {first}", case.code, case.choice.platforms, case.reason));
            }
        }
    }
    told
}

/// Descriptions with one kind of error alone, as many of each as are wanted.
fn drawn(workshop: &Workshop, seed: u64, only: Option<&[&str]>, amount: Amount) -> Vec<LetThrough> {
    let mut draw = Draw { workshop, seed, rng: Rng::from(seed), amount, found: Vec::new(), counts: BTreeMap::new(), idle: BTreeMap::new() };
    // Where few are wanted, each seed takes others.
    let mut brought: Vec<_> = BROUGHT_BY.iter().filter(|(code, _)| only.is_none_or(|only| only.contains(code))).collect();
    draw.rng.shuffle(&mut brought);
    for (code, ways) in brought {
        draw.brought(code, ways);
    }
    // What nothing is known to bring is left to chance.
    if only.is_none_or(|only| only.iter().any(|wanted| BROUGHT_BY.iter().all(|(code, _)| code != wanted))) {
        draw.by_chance(only);
    }
    say(&format!(
        "{} descriptions that are refused, and can be built: {:?}; of others no file would say anything: {:?}",
        draw.found.len(),
        draw.counts,
        draw.idle
    ));
    draw.found
}

/// What was drawn so far.
struct Draw<'a> {
    workshop: &'a Workshop,
    seed: u64,
    rng: Rng,
    amount: Amount,
    found: Vec<LetThrough>,
    counts: BTreeMap<&'static str, usize>,
    /// How many change no file, by code.
    idle: BTreeMap<&'static str, usize>,
}

impl Draw<'_> {
    fn enough(&self, code: &str) -> bool {
        self.found.len() >= self.amount.most || self.counts.get(code).is_some_and(|count| *count >= self.amount.of_each)
    }

    /// A choice of nothing yet.
    fn empty(&mut self, number: usize) -> Choice {
        Choice { platforms: *self.rng.of(&ordered_pairs()), seed: seed_of((self.seed, self.found.len(), number)), values: BTreeMap::new() }
    }

    /// Refusals of one code: what brings it, beside a few values that the program takes.
    fn brought(&mut self, code: &str, ways: &[&[&str]]) {
        for number in 0..self.amount.in_vain {
            if self.enough(code) {
                return;
            }
            let mut choice = self.empty(number);
            let company = self.rng.below(7);
            for factor in self.workshop.shuffled(&mut self.rng).into_iter().take(company) {
                let value = self.rng.below(self.workshop.factors[factor].values.len());
                self.workshop.add(&mut choice, factor, value);
            }
            let mut said = self.rng.of(ways).iter().map(|words| self.workshop.said(words).expect("a value of a key"));
            choice.values.extend(said.clone());
            let mut before = choice.clone();
            before.values.remove(&said.next_back().expect("a value").0);
            if let Some(case) = let_through(self.workshop, &choice).filter(|case| case.code == code) {
                self.take(case, &before);
            }
        }
    }

    /// Whatever is refused, one value after the other.
    fn by_chance(&mut self, only: Option<&[&str]>) {
        let mut in_vain = 0;
        while in_vain < self.amount.in_vain && self.found.len() < self.amount.most {
            in_vain += 1;
            let mut choice = self.empty(in_vain);
            for factor in self.workshop.shuffled(&mut self.rng).into_iter().take(12) {
                let value = self.rng.below(self.workshop.factors[factor].values.len());
                if self.workshop.add(&mut choice, factor, value) {
                    continue;
                }
                let before = choice.clone();
                choice.values.insert(factor, value);
                let case = let_through(self.workshop, &choice).filter(|case| match only {
                    Some(only) => only.contains(&case.code),
                    None => OF_WORDS.iter().all(|(code, _)| *code != case.code),
                });
                if let Some(case) = case.filter(|case| !self.enough(case.code))
                    && self.take(case, &before)
                {
                    in_vain = 0;
                    break;
                }
                choice = before;
            }
        }
    }

    /// Keeps a case that changes a file: what changes none is refused because it would do nothing, whatever comes up without it.
    fn take(&mut self, case: LetThrough, before: &Choice) -> bool {
        if through(self.workshop, before).is_some_and(|before| files(&before.built) == case.files) {
            *self.idle.entry(case.code).or_default() += 1;
            return false;
        }
        *self.counts.entry(case.code).or_default() += 1;
        self.found.push(case);
        if self.found.len().is_multiple_of(20) {
            say(&format!("{} found: {:?}", self.found.len(), self.counts));
        }
        true
    }
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
