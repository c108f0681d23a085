//! The program that takes a gateway's files up on the gateway itself.

use std::fmt::Write as _;

use super::{DeliveryPlan, DeliveryStep};
use crate::dialect::shell::quote;
use crate::dialect::{Draft, sentence};

/// What it is called, beside the gateway's tree.
pub const PROGRAM: &str = "take-up.sh";

/// What is the same for every gateway.
const ENGINE: &str = include_str!("engine.sh");

/// A gateway, as far as the program asks whether it is the right one.
#[derive(Clone, Debug)]
pub struct Recipient<'a> {
    /// The site.
    pub site: &'a str,
    /// The addresses of its outside interface; none where they are not fixed.
    pub addresses: Vec<String>,
    /// Its interfaces, outside and inside.
    pub interfaces: Vec<&'a str>,
    /// The units of systemd that run its daemons.
    pub services: Vec<&'a str>,
    /// Its files: mode and path below `/`, sorted by path.
    pub files: Vec<(u32, String)>,
    /// Those of them that others may have lines in.
    pub joined: Vec<String>,
}

/// The program, for a gateway with this plan; `rest` is what [`rest`] says of the plan.
pub fn program(recipient: &Recipient<'_>, plan: &DeliveryPlan, rest: &str) -> String {
    let mut out = Draft::default();
    out.push_str("#!/bin/sh\n");
    sentence(&mut out, "", &format!("{}: takes up what stands beside this program in `etc`, and goes back if it has to.", recipient.site));
    sentence(&mut out, "", "Copy the whole folder to the gateway and run it there as root: sh take-up.sh --help");
    out.push_str("# Written by Unified Span.\nset -u\numask 077\nLC_ALL=C\nPATH=$PATH:/usr/local/sbin:/usr/sbin:/sbin:/usr/local/bin:/usr/bin:/bin\nexport LC_ALL PATH\n\n");
    let _ = writeln!(out, "site={}", quote(recipient.site));
    lines(&mut out, "list", recipient.files.iter().map(|(mode, path)| format!("{mode:o} {path}")));
    lines(&mut out, "joined", recipient.joined.iter().cloned());
    lines(&mut out, "addresses", recipient.addresses.iter().cloned());
    lines(&mut out, "interfaces", recipient.interfaces.iter().map(|name| (*name).to_owned()));
    let parts = plan.parts().into_iter().filter(|part| recipient.files.iter().any(|(_, path)| part.has(path)));
    lines(&mut out, "programs", parts.flat_map(|part| part.programs).map(|(program, package)| format!("{program} {package}")));
    lines(&mut out, "services", recipient.services.iter().map(|name| (*name).to_owned()));
    out.push_str(rest);
    out.into_text()
}

/// What is the same for all gateways with a plan.
pub fn rest(plan: &DeliveryPlan) -> String {
    let mut out = Draft::default();
    for part in plan.parts() {
        for text in [part.helpers].into_iter().filter(|text| !text.is_empty()) {
            out.extend([text, "\n"]);
        }
    }
    for step in plan.leaving().chain(plan.coming()) {
        write_step(&mut out, step);
    }
    for (name, steps) in [("leaving", plan.leaving().collect::<Vec<_>>()), ("coming", plan.coming().collect())] {
        let words: Vec<_> = steps.iter().map(|step| step.word).collect();
        let _ = writeln!(out, "{name}='{}'", words.join(" "));
    }
    for (name, texts) in [("right_parts", plan.parts().map(|part| part.check)), ("verify", plan.parts().map(|part| part.verify))] {
        let _ = writeln!(out, "{name}() {{");
        texts.iter().filter(|text| !text.is_empty()).for_each(|text| indented(&mut out, text));
        out.push_str("\treturn 0\n}\n");
    }
    out.push_str("\n");
    out.push_str(ENGINE);
    out.into_text()
}

/// A function of the shell that prints lines, whatever they are.
fn lines(out: &mut Draft, name: &str, all: impl Iterator<Item = String>) {
    let mut all = all.peekable();
    if all.peek().is_none() {
        let _ = writeln!(out, "{name}() {{ :; }}");
        return;
    }
    let _ = writeln!(out, "{name}() {{\n\tcat <<'END_OF_LINES'");
    for line in all {
        let _ = writeln!(out, "{line}");
    }
    out.push_str("END_OF_LINES\n}\n");
}

fn indented(out: &mut Draft, text: &str) {
    for line in text.lines() {
        let _ = writeln!(out, "\t{line}");
    }
}

fn write_step(out: &mut Draft, step: &DeliveryStep) {
    let patterns: Vec<_> = step.kinds.iter().flat_map(|kind| step.of.iter().map(move |of| format!("{}\\ {of}", kind.word()))).collect();
    let _ = writeln!(out, "concerns_{}() {{\n\tcase $1 in\n\t{}) ;;\n\t*) return 1 ;;\n\tesac\n}}", step.word, patterns.join(" | "));
    let does = format!("{} It interrupts {}.", step.does, step.interrupts.words());
    let _ = writeln!(out, "does_{}() {{ say {}; }}", step.word, quote(&does));
    let _ = writeln!(out, "step_{}() {{", step.word);
    indented(out, step.commands);
    out.push_str("}\n");
}
