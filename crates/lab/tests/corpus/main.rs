//! Files that nobody of this project wrote: the suites of the daemons, from their source packages. What the suites say of each pair of
//! gateways is held against what is read, rehearsed and compared here.
//!
//! Needs the network or the cache of an earlier run. `USPAN_CORPUS=all` takes every scenario, else a part that follows from the commit.

#[path = "../../../core/tests/common/known.rs"]
mod known;

mod authority;
mod iked;
mod pluto;
mod scenario;
mod sources;
mod swan;

use std::collections::BTreeMap;
use std::fmt::Write as _;

use known::{actor, context, platform, read_as};
use scenario::{Outcome, Scenario};
use uspan_core::{Actor, Finding, Gateway, OwnEnd, ReadGateway, Rehearsal, RehearsalVerdict, Severity, Tree, covered, rehearse};

/// What the program says.
#[derive(Clone, Debug, PartialEq, Eq, PartialOrd, Ord)]
enum Said {
    Up(Option<String>),
    Fails(String),
    CannotSay(String),
}

struct Judged<'a> {
    scenario: &'a Scenario,
    said: Said,
    blamed: Vec<String>,
}

fn shown(tree: &Tree, finding: &Finding) -> String {
    let line = finding.place.as_ref().and_then(|place| {
        let text = &tree.files.get(&*place.file)?.text;
        let number = text[..place.span.start].matches('\n').count();
        Some(format!("{}:{}: {}", place.file, number + 1, text.lines().nth(number)?.trim()))
    });
    format!("{} {} [{}]", finding.rule.code, finding.message, line.unwrap_or_default())
}

fn judge(scenario: &Scenario) -> Judged<'_> {
    let read: Vec<(Gateway, Vec<Finding>)> = (0..2).map(|end| read_as(platform(scenario.platforms[end]), &scenario.trees[end])).collect();
    let trees: Vec<Tree> = scenario.trees.iter().map(covered).collect();
    let mut blamed = Vec::new();
    for (end, (_, findings)) in read.iter().enumerate() {
        let wrong = findings.iter().filter(|finding| ["US801", "US803"].contains(&finding.rule.code));
        blamed.extend(wrong.map(|finding| format!("{}: {}", scenario.hosts[end], shown(&scenario.trees[end], finding))));
    }
    let actors: [Actor<'_>; 2] = [0, 1].map(|end| {
        let profile = platform(scenario.platforms[end]);
        let reading = ReadGateway {
            name: &scenario.hosts[end],
            gateway: &read[end].0,
            ends_open: profile.own_end == OwnEnd::ByAddress,
            tree: Some(&trees[end]),
        };
        actor(reading, profile)
    });
    let came = rehearse(actors, Some(0));
    let named = |rehearsal: &&Rehearsal| {
        let name = scenario.opened.as_deref();
        name.is_none_or(|name| {
            rehearsal.names.iter().any(|one| one == name) || rehearsal.opened.iter().any(|child| child.names.iter().any(|one| one == name))
        })
    };
    let errors = read.iter().flat_map(|(_, findings)| findings).filter(|finding| finding.rule.severity == Severity::Error).count();
    let said = match came.all.iter().find(named).or(came.all.first()) {
        None => Said::CannotSay("no two connections belong together".to_owned()),
        Some(rehearsal) => match rehearsal.verdict() {
            RehearsalVerdict::Fails => {
                // The suite tells of the Child SA that is opened first, whatever comes of others.
                match rehearsal.opened.first() {
                    Some(child) => Said::Up(Some(child.protection.clone())),
                    None => Said::Fails(rehearsal.failures.first().map_or_else(String::new, |failure| failure.reason.clone())),
                }
            }
            RehearsalVerdict::Unknown => {
                let doubt = &rehearsal.doubts[0];
                let spelling = doubt.spelling.clone().unwrap_or_default();
                Said::CannotSay(format!("{} at {}: {spelling}", doubt.about, scenario.hosts[doubt.end]))
            }
            RehearsalVerdict::Up if errors > 0 => Said::CannotSay(format!("{errors} errors in the files")),
            RehearsalVerdict::Up => Said::Up(rehearsal.opened.first().map(|child| child.protection.clone())),
        },
    };
    Judged { scenario, said, blamed }
}

/// Whether what is said is what the suite says.
fn agrees(judged: &Judged<'_>) -> Option<bool> {
    match (judged.scenario.outcome, &judged.said) {
        (Outcome::Untold, _) | (_, Said::CannotSay(_)) => None,
        (Outcome::Up, Said::Up(protection)) => {
            let both = judged.scenario.protection.as_ref().zip(protection.as_ref());
            Some(both.is_none_or(|(one, other)| one == other))
        }
        (Outcome::Down, Said::Fails(_)) => Some(true),
        _ => Some(false),
    }
}

#[test]
#[ignore = "needs the source packages of the daemons, which it fetches"]
fn what_the_daemons_own_suites_say_is_what_is_said_here() {
    let _ = context();
    let mut scenarios = Vec::new();
    for package in &sources::PACKAGES {
        match sources::folder(package) {
            Ok(folder) => scenarios.extend(match package.name {
                "strongswan" => swan::scenarios(&folder),
                "libreswan" => pluto::scenarios(&folder),
                _ => iked::scenarios(&folder),
            }),
            Err(why) => println!("NOT TRIED: the suite of {} {}: {why}", package.name, package.version),
        }
    }
    assert!(!scenarios.is_empty(), "no suite could be had");
    let judged: Vec<Judged<'_>> = scenarios.iter().map(judge).collect();
    let mut table: BTreeMap<(&str, &str), usize> = BTreeMap::new();
    let mut told = String::new();
    for one in &judged {
        let platform = one.scenario.platforms[0];
        let mut count = |what: &'static str| *table.entry((platform, what)).or_default() += 1;
        count("pairs");
        if !one.blamed.is_empty() {
            count("with a line that is blamed");
        }
        if one.scenario.outcome != Outcome::Untold {
            count("told by the suite");
            match (agrees(one), &one.said) {
                (None, _) => count("cannot say"),
                (Some(true), _) => count("agrees"),
                (Some(false), Said::Up(_)) if one.scenario.outcome == Outcome::Down => count("WRONG: up, and is not"),
                (Some(false), Said::Up(_)) => count("WRONG: another protection"),
                (Some(false), _) => count("WRONG: fails, and does not"),
            }
        }
        if agrees(one) != Some(true) || !one.blamed.is_empty() {
            let _ = writeln!(
                told,
                "{}: suite {:?} {:?}, here {:?}",
                one.scenario.name, one.scenario.outcome, one.scenario.protection, one.said
            );
            one.blamed.iter().for_each(|line| _ = writeln!(told, "    {line}"));
        }
    }
    for ((platform, what), count) in &table {
        println!("{platform:<12} {count:>5} {what}");
    }
    if let Some(path) = std::env::var_os("USPAN_CORPUS_REPORT") {
        std::fs::write(path, told).expect("written");
    }
}
