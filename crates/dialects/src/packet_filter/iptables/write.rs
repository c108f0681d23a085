//! Writes files for iptables-restore(8): the rules, and the jumps to them.

use std::fmt::Write as _;

use super::names::{DESTINATION, FORWARD, INPUT, LOG, NAT, OUTPUT, SEGMENTS, chain};
use super::{FAMILIES, FOLDER, IpFamily};
use crate::dialect::{Draft, Remarks, Unwritable, remark, sentence};
use crate::packet_filter::{LOG_RATE, interfaces_fit};
use uspan_model::gateway::{
    DESTINATION_ORDER, EXEMPTION_ORDER, Filter, FilterForm, FilterRule, Gateway, Hook, NatRule, NatTarget, Protection, Traffic, Tree,
    Verdict,
};

pub(super) fn write(gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
    interfaces_fit(gateway)?;
    let stem = &remarks.stem;
    if stem.is_empty() || !stem.bytes().all(|b| b.is_ascii_alphanumeric() || b == b'-' || b == b'_') {
        let what = "a chain name with other characters than letters, digits, `-` and `_`";
        return Err(vec![Unwritable::new(what, "Choose a plain name.")]);
    }
    let usual = |rule: &NatRule| rule.order == if rule.before_routing() { DESTINATION_ORDER } else { EXEMPTION_ORDER };
    if gateway.filter.iter().flat_map(|filter| &filter.rules).any(|rule| rule.hook == Hook::Departure) {
        let remedy = "Use nftables, or make this end route-based.";
        return Err(vec![Unwritable::new("a look at packets after their source was translated", remedy)]);
    }
    if !gateway.nat.iter().all(usual) {
        return Err(vec![Unwritable::new("a translation at a priority", "iptables has one chain, in which the order decides.")]);
    }
    let mut tree = Tree::default();
    for family in &FAMILIES {
        write_family(&mut tree, gateway, remarks, family);
    }
    Ok(tree)
}

fn write_family(tree: &mut Tree, gateway: &Gateway, remarks: &Remarks, family: &IpFamily) {
    let stem = &remarks.stem;
    let nat: Vec<_> = gateway.nat.iter().filter(|rule| rule.from.addr().is_ipv4() == family.ipv4).collect();
    let filter = gateway.filter.as_ref().filter(|filter| filter.rules.iter().any(|rule| rule.from.addr().is_ipv4() == family.ipv4));
    let mut rules = Draft::new(&remarks.head);
    sentence(&mut rules, "", "Loaded by hand; save your rules afterwards as you save your others, so that they come back at boot.");
    let mut jumps = Draft::new(&remarks.head);
    sentence(&mut jumps, "", "Load this file once; it puts the jumps at the head of the built-in chains.");
    if !nat.is_empty() {
        remark(&mut rules, "", &remarks.exemption);
        let (destinations, sources): (Vec<&NatRule>, Vec<_>) = nat.iter().partition(|rule| rule.before_routing());
        let both = [(destinations, DESTINATION, "PREROUTING"), (sources, NAT, "POSTROUTING")];
        let parts: Vec<_> = both.into_iter().filter(|(list, ..)| !list.is_empty()).collect();
        rules.push_str("*nat\n");
        jumps.push_str("*nat\n");
        for (_, role, built_in) in &parts {
            let _ = writeln!(rules, ":{} - [0:0]", chain(stem, role));
            let _ = writeln!(jumps, "-I {built_in} -j {}", chain(stem, role));
        }
        for (list, role, _) in &parts {
            list.iter().for_each(|rule| rules.push_str(&nat_rule(&chain(stem, role), rule)));
        }
        rules.push_str("COMMIT\n");
        jumps.push_str("COMMIT\n");
    }
    if let Some(filter) = filter {
        write_filter(&mut rules, filter, family, remarks);
        if filter.form == FilterForm::Standalone {
            jumps.push_str("*filter\n");
            for (built_in, name) in filter_chains(filter, family, stem) {
                let _ = writeln!(jumps, "-I {built_in} -j {name}");
            }
            jumps.push_str("COMMIT\n");
        }
    }
    let limits: Vec<_> = gateway.segment_limits.iter().filter(|limit| limit.ipv4 == family.ipv4).collect();
    if !limits.is_empty() {
        let name = chain(stem, SEGMENTS);
        remark(&mut rules, "", &remarks.mtu);
        let _ = writeln!(rules, "*mangle\n:{name} - [0:0]");
        for limit in &limits {
            let ends = format!("-A {name} -o {} -p tcp --tcp-flags SYN,RST SYN", limit.interface);
            let _ = writeln!(rules, "{ends} -j TCPMSS --set-mss {}", limit.bytes);
        }
        let _ = writeln!(rules, "COMMIT");
        let _ = writeln!(jumps, "*mangle\n-I FORWARD -j {name}\nCOMMIT");
    }
    let hooks_in = !limits.is_empty() || !nat.is_empty() || filter.is_some_and(|filter| filter.form == FilterForm::Standalone);
    if hooks_in || filter.is_some() {
        tree.add(format!("{FOLDER}/uspan-{stem}.{}", family.rules), rules.public());
    }
    if hooks_in {
        tree.add(format!("{FOLDER}/uspan-{stem}.{}", family.jumps), jumps.public());
    }
}

fn nat_rule(chain: &str, rule: &NatRule) -> String {
    let ends = format!("-A {chain} -s {} -d {}", rule.from, rule.to);
    match rule.target {
        // The first rule that fits decides: what is accepted here is not translated further on.
        NatTarget::KeepSource => format!("{ends} -j ACCEPT\n"),
        NatTarget::SourceTo(address) => format!("{ends} -j SNAT --to-source {address}\n"),
        NatTarget::SourceNet(net) | NatTarget::DestinationNet(net) => format!("{ends} -j NETMAP --to {net}\n"),
    }
}

fn write_filter(out: &mut Draft, filter: &Filter, family: &IpFamily, remarks: &Remarks) {
    let chains = filter_chains(filter, family, &remarks.stem);
    remark(out, "", &remarks.filter);
    if filter.form == FilterForm::Joined {
        sentence(out, "", "Jump to these chains before your rules that drop:");
        for (built_in, name) in &chains {
            sentence(out, "", &format!("    {} -I {built_in} -j {name}", family.program));
        }
    }
    out.push_str("*filter\n");
    for (_, name) in &chains {
        let _ = writeln!(out, ":{name} - [0:0]");
    }
    for rule in filter.rules.iter().filter(|rule| rule.from.addr().is_ipv4() == family.ipv4) {
        let at = match rule.hook {
            Hook::Input => 0,
            Hook::Output => 2,
            Hook::Forward | Hook::Departure | Hook::Arrival => 1,
        };
        if let Some((_, name)) = chains.get(at) {
            out.push_str(&filter_rule(name, rule, &remarks.stem));
        }
    }
    out.push_str("COMMIT\n");
}

/// The chains of a filter, each with the built-in one that jumps to it.
fn filter_chains(filter: &Filter, family: &IpFamily, stem: &str) -> Vec<(&'static str, String)> {
    let mut chains = vec![("INPUT", chain(stem, INPUT)), ("FORWARD", chain(stem, FORWARD))];
    if filter.rules.iter().any(|rule| rule.hook == Hook::Output && rule.from.addr().is_ipv4() == family.ipv4) {
        chains.push(("OUTPUT", chain(stem, OUTPUT)));
    }
    chains
}

fn filter_rule(name: &str, rule: &FilterRule, stem: &str) -> String {
    let mut text = format!("-A {name} -s {} -d {}", rule.from, rule.to);
    match &rule.traffic {
        Traffic::Any => {}
        Traffic::Udp(ports) => {
            let ports: Vec<_> = ports.iter().map(ToString::to_string).collect();
            let _ = write!(text, " -p udp -m multiport --dports {}", ports.join(","));
        }
        Traffic::Esp => text.push_str(" -p esp"),
        Traffic::Gre => text.push_str(" -p gre"),
        Traffic::Replies => text.push_str(" -m conntrack --ctstate RELATED,ESTABLISHED"),
        Traffic::Ping if rule.from.addr().is_ipv4() => text.push_str(" -p icmp -m icmp --icmp-type 8"),
        Traffic::Ping => text.push_str(" -p ipv6-icmp -m icmp6 --icmpv6-type 128"),
        Traffic::Neighbour(kind) => drop(write!(text, " -p ipv6-icmp -m icmp6 --icmpv6-type {kind}")),
        Traffic::To(transport, ports) => drop(write!(text, " -p {0} -m {0} --dport {1}", transport.word(), ports.written(':'))),
    }
    match &rule.protection {
        Protection::Any => {}
        Protection::Leaving => text.push_str(" -m policy --dir out --pol ipsec"),
        Protection::Arrived => text.push_str(" -m policy --dir in --pol ipsec"),
        Protection::Into(name) => drop(write!(text, " -o {name}")),
        Protection::OutOf(name) => drop(write!(text, " -i {name}")),
    }
    match rule.verdict {
        Verdict::Accept => text.push_str(" -j ACCEPT\n"),
        Verdict::Drop => text.push_str(" -j DROP\n"),
        // A prefix may have 29 characters.
        Verdict::Log => drop(writeln!(text, " -m limit --limit {LOG_RATE}/second -j LOG --log-prefix \"{}\"", chain(stem, LOG))),
    }
    text
}
