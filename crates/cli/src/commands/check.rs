//! `uspan check`.

use std::path::Path;

use serde_json::json;
use uspan_core::{Build, any_stops, build};

use crate::args::{Format, Supply};
use crate::failure::{Failure, Verdict};
use crate::files::input::{self, Input};
use crate::show::{CARE, GOOD, STOP, agreement, findings, styled};

/// Reads a description and goes the whole way in memory.
pub fn plan(file: &Path, supply: &Supply) -> Result<(Input, Build), Failure> {
    Ok(plan_of(input::read(file, supply)?))
}

/// The same for what was read already.
pub fn plan_of(mut read: Input) -> (Input, Build) {
    let mut planned = match &read.description {
        Some(description) if !any_stops(&read.findings) => build(description, &read.supplied),
        // What could be understood is still checked, so that one run finds as much as possible.
        Some(description) => Build { findings: uspan_core::check(description, &read.supplied), ..Build::default() },
        None => Build::default(),
    };
    input::relocate(&mut planned.findings, &read.source);
    planned.findings.append(&mut read.findings);
    uspan_core::in_reading_order(&mut planned.findings);
    if any_stops(&planned.findings) {
        planned.trees.clear();
        planned.tunnels.clear();
    }
    (read, planned)
}

pub fn run(file: &Path, supply: &Supply, reasons: bool, format: Format) -> Result<Verdict, Failure> {
    let (read, planned) = plan(file, supply)?;
    let stopped = any_stops(&planned.findings);
    if format == Format::Json {
        let tunnels: Vec<_> = planned.tunnels.iter().map(agreement::json).collect();
        let value = json!({ "fine": !stopped, "findings": findings::json(&planned.findings, &read.source), "tunnels": tunnels });
        super::print_json(&value)?;
    } else {
        findings::print(&planned.findings, &read.source);
        for tunnel in &planned.tunnels {
            super::print_line(&format!("{}\n", agreement::text(tunnel, reasons)))?;
        }
        super::print_line(&closing(file, &planned, stopped))?;
    }
    Ok(if stopped { Verdict::Stopped } else { Verdict::Fine })
}

/// One line that says how it stands and what to do next.
fn closing(file: &Path, planned: &Build, stopped: bool) -> String {
    let count = findings::count(&planned.findings);
    let file = file.display();
    if stopped {
        let code = planned.findings.iter().find(|finding| finding.stops()).map_or("", |finding| finding.rule.code);
        return format!("{}. Nothing would be written. Next: uspan explain {code}", styled(STOP, &count));
    }
    let count = if count.is_empty() { styled(GOOD, "Fine") } else { styled(CARE, &count) };
    format!("{count}. Both ends agree. Next: uspan build {file} -o out")
}
