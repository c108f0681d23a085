//! What the lab found: a table for each tunnel, what the daemons said to failures, a closing line.

use std::path::Path;
use std::time::Duration;

use serde_json::{Value, json};
use uspan_lab::{CheckRow, Event, Ground, Job, JobTunnel, Outcome};

use super::path_shown;
use super::table::table;
use super::{GOOD, HEADING, QUIET, STOP, columns, styled, wrapped};

/// Everything the lab told.
#[derive(Default)]
pub struct ToldRows {
    /// The kernel it ran on.
    pub kernel: String,
    rows: Vec<CheckRow>,
    warnings: Vec<(usize, String, String)>,
    broken: Vec<(usize, String)>,
}

impl ToldRows {
    /// Takes an event in.
    pub fn add(&mut self, event: Event) {
        match event {
            Event::Up(kernel) => self.kernel = kernel,
            Event::Row(row) => self.rows.push(row),
            Event::Warning { job, site, line } => self.warnings.push((job, site, line)),
            Event::Broken { job, how } => self.broken.push((job, how)),
            Event::Now { .. } | Event::Through(_) | Event::Negotiated { .. } | Event::Flowed { .. } | Event::Updated { .. } => {}
        }
    }

    /// Whether everything holds.
    pub fn fine(&self) -> bool {
        self.broken.is_empty() && !self.rows.is_empty() && !self.rows.iter().any(|row| row.ends.iter().any(Outcome::failed))
    }

    /// Checks so far, in words.
    pub fn so_far(&self) -> String {
        let failed = self.rows.iter().filter(|row| row.ends.iter().any(Outcome::failed)).count();
        match failed {
            0 => format!("checks that hold so far: {}", self.rows.len()),
            n => format!("{n} of {} checks failed", self.rows.len()),
        }
    }

    /// Whether the lab itself failed, so that nothing can be said of some tunnel.
    pub fn lab_failed(&self) -> bool {
        !self.broken.is_empty()
    }

    fn rows(&self, job: usize, tunnel: usize) -> impl Iterator<Item = &CheckRow> {
        self.rows.iter().filter(move |row| row.job == job && row.tunnel == tunnel)
    }

    /// The table of a tunnel, and what is to be said to it.
    pub fn table(&self, job: &Job, number: usize, tunnel: &JobTunnel) -> String {
        let sites = tunnel.ends.map(|end| &job.sites[end]);
        let names = sites.map(|site| site.name.as_str());
        let title = format!("{}: {} ({}) ⇄ {} ({})", tunnel.name, names[0], sites[0].platform, names[1], sites[1].platform);
        let cells = self.rows(job.number, number).map(|row| {
            let [one, other] = &row.ends;
            vec![title_of(row), cell(one), cell(other)]
        });
        let mut text = vec![styled(HEADING, &title), table(&["at the site, or starting there", names[0], names[1]], cells.collect(), &[])];
        for row in self.rows(job.number, number) {
            for (outcome, name) in row.ends.iter().zip(names) {
                if let Outcome::Fail(why) = outcome {
                    text.push(String::new());
                    let lines = wrapped(&format!("{}, {name}: {why}", title_of(row)), columns().min(100));
                    text.extend(lines.iter().map(|line| styled(STOP, line)));
                }
            }
            if row.ends.iter().any(Outcome::failed) {
                text.extend(
                    wrapped(&format!("look at: {}", row.check.advice()), columns().min(100) - 2).iter().map(|line| format!("  {line}")),
                );
                text.extend(row.words.iter().map(|line| format!("  {}", styled(QUIET, line))));
            }
        }
        for (_, how) in self.broken.iter().filter(|(broken, _)| *broken == job.number) {
            text.push(format!("\n{}", styled(STOP, &format!("the lab itself failed: {how}"))));
        }
        text.push(String::new());
        text.join("\n")
    }

    /// One line: what came of it, where, and what to do next.
    pub fn closing(&self, ground: &Ground, took: Duration, keep: Option<&Path>) -> String {
        let checks = self.rows.iter().flat_map(|row| &row.ends).filter(|end| matches!(end, Outcome::Pass(_) | Outcome::Fail(_))).count();
        let failed = self.rows.iter().flat_map(|row| &row.ends).filter(|end| end.failed()).count();
        let place = ground_words(ground);
        let logs = keep.map(|folder| format!(" Logs and captures: {}.", path_shown(folder))).unwrap_or_default();
        let count = format!("{checks} checks in {} s, {place}, Linux {}.", took.as_secs(), self.kernel);
        let warnings = match (self.warnings.len(), keep) {
            (0, _) => String::new(),
            (n, None) => format!(" Warnings in the daemons' logs: {n}; --format json lists them."),
            (n, Some(folder)) => format!(" Warnings in the daemons' logs: {n}, in {}.", path_shown(folder)),
        };
        let next = match (self.fine(), failed) {
            (true, _) => format!("{}. Next: take the files up on the gateways.", styled(GOOD, "Proven")),
            (false, 0) => format!("{}: the lab failed. Next: look at what it says above.", styled(STOP, "Not proven")),
            (false, n) if keep.is_none() => {
                format!("{}: {n} failed. Next: look at the first; --keep DIR keeps all logs.", styled(STOP, "Not proven"))
            }
            (false, n) => format!("{}: {n} failed. Next: look at the first.", styled(STOP, "Not proven")),
        };
        let lines = wrapped(&format!("{count}{logs}{warnings}"), columns().min(100)).join("\n");
        format!("{lines}\n{next}")
    }

    /// A description's proof as JSON.
    pub fn json(&self, file: &str, job: &Job, findings: &Value) -> Value {
        let tunnels: Vec<Value> = job
            .tunnels
            .iter()
            .enumerate()
            .map(|(number, tunnel)| {
                let names = tunnel.ends.map(|end| job.sites[end].name.as_str());
                let checks: Vec<Value> = self.rows(job.number, number).map(|row| row_json(row, names)).collect();
                json!({ "tunnel": tunnel.name, "between": names, "checks": checks })
            })
            .collect();
        let warnings = self.warnings.iter().filter(|(number, ..)| *number == job.number);
        let warnings: Vec<_> = warnings.map(|(_, site, line)| json!({ "site": site, "line": line })).collect();
        let broken: Vec<_> = self.broken.iter().filter(|(number, _)| *number == job.number).map(|(_, how)| how).collect();
        json!({ "file": file, "findings": findings, "tunnels": tunnels, "warnings": warnings, "lab_failures": broken })
    }
}

fn row_json(row: &CheckRow, names: [&str; 2]) -> Value {
    let end = |outcome: &Outcome, name: &str| {
        let (result, detail) = match outcome {
            Outcome::Pass(detail) => ("pass", detail.as_str()),
            Outcome::Fail(why) => ("fail", why.as_str()),
            Outcome::Idle(why) => ("idle", why.as_str()),
            Outcome::Unreached => ("unreached", ""),
        };
        json!({ "site": name, "result": result, "detail": detail })
    };
    json!({
        "check": row.check,
        "about": row.about,
        "ends": [end(&row.ends[0], names[0]), end(&row.ends[1], names[1])],
        "words": row.words,
    })
}

fn title_of(row: &CheckRow) -> String {
    if row.about.is_empty() { row.check.words().to_owned() } else { format!("{}: {}", row.check.words(), row.about) }
}

fn cell(outcome: &Outcome) -> String {
    match outcome {
        Outcome::Pass(detail) if detail.is_empty() => "ok".to_owned(),
        Outcome::Pass(detail) => format!("ok, {detail}"),
        Outcome::Fail(_) => "FAILS".to_owned(),
        Outcome::Idle(why) => format!("– {why}"),
        Outcome::Unreached => "· not reached".to_owned(),
    }
}

/// Where the proof takes place.
pub fn ground_words(ground: &Ground) -> &'static str {
    match ground {
        Ground::Machine => "on this machine's own kernel",
        Ground::Guest(_) => "in a guest kernel, because this machine's has no ESP",
    }
}
