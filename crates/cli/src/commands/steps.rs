//! `uspan verify-steps`.

use std::path::Path;

use serde_json::json;
use uspan_core::{Steps, any_stops, steps};

use super::check::plan_few;
use crate::args::{Format, Supply};
use crate::failure::{CommandOutcome, Failure};
use crate::show::table::table;
use crate::show::{HEADING, columns, findings, styled, wrapped};

pub fn run(file: &Path, supply: &Supply, tunnel: Option<&str>, format: Format) -> Result<CommandOutcome, Failure> {
    let (mut read, planned) = plan_few(file, supply, tunnel)?;
    let Some(description) = read.description.take().filter(|_| !any_stops(&planned.findings)) else {
        return super::stopped(&planned.findings, &read.source, format, json!({ "tunnels": [] }), "There is nothing to verify yet");
    };
    let meant = planned.tunnels.iter().filter(|built| tunnel.is_none_or(|name| built.name == name));
    let all: Vec<Steps> = meant.filter_map(|built| steps(&description, built)).collect();
    if let (Some(name), true) = (tunnel, all.is_empty()) {
        return Err(Failure::Usage(format!("the description has no tunnel of the name `{name}`")));
    }
    if format == Format::Json {
        let each = all.iter().map(|steps| {
            let looks = |end: usize| {
                steps.looks[end].iter().map(|step| json!({ "look_at": step.what, "by": step.command, "good": step.good })).collect::<Vec<_>>()
            };
            let gateways = [0, 1].map(|end| json!({ "site": steps.ends[end], "steps": looks(end) }));
            json!({
                "tunnel": steps.tunnel,
                "gateways": gateways,
                "symptoms": steps.symptoms.iter().map(|one| json!({ "sees": one.sees, "means": one.means, "change": one.change })).collect::<Vec<_>>(),
            })
        });
        let found = findings::json(&planned.findings, &read.source);
        super::print_json(&super::ended(json!({ "tunnels": each.collect::<Vec<_>>() }), true, found))?;
        return Ok(CommandOutcome::Fine);
    }
    for steps in &all {
        super::print_line(&text(steps))?;
    }
    Ok(CommandOutcome::Fine)
}

fn text(steps: &Steps) -> String {
    let mut lines = vec![styled(HEADING, &format!("{}: {} ⇄ {}", steps.tunnel, steps.ends[0], steps.ends[1]))];
    for (end, looks) in steps.looks.iter().enumerate().filter(|(_, looks)| !looks.is_empty()) {
        lines.extend([String::new(), styled(HEADING, &format!("On {}", steps.ends[end]))]);
        for (i, step) in looks.iter().enumerate() {
            for (n, line) in wrapped(&step.what, columns().min(100) - 5).into_iter().enumerate() {
                lines.push(if n == 0 { format!("{:>3}. {line}", i + 1) } else { format!("     {line}") });
            }
            lines.push(format!("     $ {}", step.command));
            lines.extend(wrapped(&format!("good: {}", step.good), columns().min(100) - 5).into_iter().map(|line| format!("     {line}")));
        }
    }
    lines.push(String::new());
    let rows = steps.symptoms.iter().map(|one| vec![one.sees.clone(), one.means.clone(), one.change.clone()]);
    lines.push(table(&["what you see", "what it means", "what to change"], rows.collect(), &[]));
    lines.push(String::new());
    lines.join("\n")
}
