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
    for part in plan.parts().into_iter().filter(|part| !part.helpers.is_empty()) {
        out.extend([part.helpers, "\n"]);
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

/// What ends lines in the program: no name of an interface has a space, and no list of files begins like this.
const END: &str = "# end";

/// A function of the shell that prints lines, whatever they are.
fn lines(out: &mut Draft, name: &str, all: impl Iterator<Item = String>) {
    let mut all = all.peekable();
    if all.peek().is_none() {
        let _ = writeln!(out, "{name}() {{ :; }}");
        return;
    }
    let _ = writeln!(out, "{name}() {{\n\tcat <<'{END}'");
    for line in all {
        let _ = writeln!(out, "{line}");
    }
    let _ = writeln!(out, "{END}\n}}");
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

#[cfg(test)]
#[expect(clippy::disallowed_methods, reason = "a shell is asked")]
mod tests {
    use super::*;
    use proptest::prelude::*;
    use std::process::Command;

    fn said(program: &str) -> String {
        let said = Command::new("sh").args(["-c", program]).output().expect("a shell");
        String::from_utf8_lossy(&said.stdout).into_owned()
    }

    proptest! {
        #![proptest_config(ProptestConfig { cases: 48, ..ProptestConfig::default() })]
        #[test]
        fn whatever_lines_say_is_printed_and_nothing_else(all in prop::collection::vec("[a-z $`\"'\\\\;&|<>(){}*?#~!=-]{1,20}|END|reboot|EOF", 0..6)) {
            prop_assume!(all.iter().all(|line| line != END));
            let mut out = Draft::default();
            lines(&mut out, "list", all.iter().cloned());
            let text: String = all.iter().map(|line| format!("{line}\n")).collect();
            prop_assert_eq!(said(&format!("{}\nlist", out.into_text())), text);
        }

        #[test]
        fn the_name_of_a_site_is_a_word(name in "[a-z $`\"'\\\\;&|<>(){}*?#~!=-]{1,20}") {
            let recipient = Recipient { site: &name, addresses: Vec::new(), interfaces: Vec::new(), services: Vec::new(), files: Vec::new(), joined: Vec::new() };
            let context = crate::context::Context::built_in();
            let plan = DeliveryPlan::of(&context.profiles[0], context.filters[0]);
            let text = program(&recipient, &plan, "printf %s \"$site\"; exit\n");
            prop_assert_eq!(said(&text), name);
        }
    }
}
