//! Writes rulesets. Each tunnel has tables of its own, so that it can be loaded and taken out alone.

use std::fmt::Write as _;

use ipnet::IpNet;

use super::{DEPARTURE_ORDER, FOLDER};
use crate::dialect::{Draft, remark, sentence};
use crate::dialect::{Remarks, Unwritable};
use crate::packet_filter::{LOG_RATE, interfaces_fit};
use uspan_model::address_text;
use uspan_model::gateway::{
    Filter, FilterForm, FilterRule, Gateway, Hook, NatRule, NatTarget, Protection, SegmentLimit, Traffic, Tree, Verdict,
};

pub(super) fn write(gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
    interfaces_fit(gateway)?;
    let table = table_name(&remarks.stem).map_err(|e| vec![e])?;
    let mut tree = Tree::default();
    let mut rules = Draft::new(&remarks.head);
    let (mut any, mut nets) = (false, Nets::default());
    for (family, ipv4) in [("ip", true), ("ip6", false)] {
        let nat: Vec<_> = gateway.nat.iter().filter(|rule| rule.from.addr().is_ipv4() == ipv4).collect();
        if !nat.is_empty() {
            any = true;
            write_nat(&mut rules, family, &table, &nat, &mut nets, remarks)?;
        }
    }
    let standalone = gateway.filter.as_ref().filter(|filter| filter.form == FilterForm::Standalone);
    let departs = gateway.filter.iter().flat_map(|filter| &filter.rules).any(|rule| rule.hook == Hook::Departure);
    if standalone.is_some() || departs || !gateway.segment_limits.is_empty() {
        any = true;
        fresh_table(&mut rules, "inet", &table);
        write_limits(&mut rules, &gateway.segment_limits, remarks);
        if let Some(filter) = standalone {
            write_filter(&mut rules, filter, &table, "\t", &mut nets, remarks);
        }
        write_departures(&mut rules, gateway, &table, &mut nets, remarks);
        rules.push_str("}\n");
    }
    match &gateway.filter {
        Some(filter) if standalone.is_none() => {
            let mut chains = Draft::new(&remarks.head);
            sentence(&mut chains, "", "Include this file inside your own table and jump to its chains before your rules that drop:");
            sentence(&mut chains, "", &format!("    include \"/{FOLDER}/{table}.chains\""));
            sentence(&mut chains, "", &format!("    chain input {{ ... jump {table}-input ... }}"));
            sentence(&mut chains, "", &format!("    chain forward {{ ... jump {table}-forward ... }}"));
            if filter.rules.iter().any(|rule| rule.hook == Hook::Output) {
                sentence(&mut chains, "", &format!("    chain output {{ ... jump {table}-output ... }}"));
            }
            write_filter(&mut chains, filter, &table, "", &mut nets, remarks);
            tree.add(format!("{FOLDER}/{table}.chains"), chains.public());
        }
        _ => {}
    }
    if any {
        tree.add([FOLDER, "/", &table, ".nft"].concat(), rules.public());
    }
    Ok(tree)
}

/// The name of a tunnel's tables. The grammar takes letters, digits, `_`, `-` and `.`.
fn table_name(stem: &str) -> Result<String, Unwritable> {
    let plain = |b: u8| b.is_ascii_alphanumeric() || b == b'-' || b == b'_';
    if stem.bytes().all(plain) && !stem.is_empty() {
        Ok(["uspan-", stem].concat())
    } else {
        Err(Unwritable::new("a table name with other characters than letters, digits, `-` and `_`", "Choose a plain name."))
    }
}

/// Opens a table, emptied first, so that loading the file twice is the same as loading it once.
fn fresh_table(out: &mut Draft, family: &str, table: &str) {
    let _ = writeln!(out, "table {family} {table}\ndelete table {family} {table}\ntable {family} {table} {{");
}

fn write_nat(
    out: &mut Draft,
    family: &str,
    table: &str,
    rules: &[&NatRule],
    nets: &mut Nets,
    remarks: &Remarks,
) -> Result<(), Vec<Unwritable>> {
    fresh_table(out, family, table);
    remark(out, "\t", &remarks.exemption);
    let (destinations, sources): (Vec<&NatRule>, Vec<_>) = rules.iter().partition(|rule| rule.before_routing());
    for (list, chain, hook) in [(destinations, "own-address", "prerouting"), (sources, "keep-address", "postrouting")] {
        let Some(order) = list.first().map(|rule| rule.order) else { continue };
        if list.iter().any(|rule| rule.order != order) {
            return Err(vec![Unwritable::new("translations of one tunnel at different priorities", "Use one priority.")]);
        }
        if list.iter().any(|rule| rule.target == NatTarget::KeepSource) {
            sentence(out, "\t", "Each source is translated to itself: that settles the matter before any later chain is asked.");
        }
        let _ = writeln!(out, "\tchain {chain} {{\n\t\ttype nat hook {hook} priority {order}; policy accept;");
        for rule in list {
            out.push_str("\t\t");
            nets.ends(out, rule.from, rule.to);
            let (verb, net) = match rule.target {
                NatTarget::SourceTo(address) => {
                    let _ = writeln!(out, " counter snat to {address}");
                    continue;
                }
                NatTarget::KeepSource => ("snat", rule.from),
                NatTarget::SourceNet(net) => ("snat", net),
                NatTarget::DestinationNet(net) => ("dnat", net),
            };
            out.extend([" counter ", verb, " ", family, " prefix to ", nets.prefix(net), "\n"]);
        }
        out.push_str("\t}\n");
    }
    out.push_str("}\n");
    Ok(())
}

/// What leaves under a translated address leaves through an SA: before the translation nobody can tell.
fn write_departures(out: &mut Draft, gateway: &Gateway, table: &str, nets: &mut Nets, remarks: &Remarks) {
    let mut rules = gateway.filter.iter().flat_map(|filter| &filter.rules).filter(|rule| rule.hook == Hook::Departure).peekable();
    if rules.peek().is_none() {
        return;
    }
    remark(out, "\t", &remarks.exemption);
    let _ = writeln!(out, "\tchain departure {{\n\t\ttype filter hook postrouting priority {DEPARTURE_ORDER}; policy accept;");
    for rule in rules {
        out.push_str("\t\t");
        filter_rule(out, rule, nets, table);
    }
    out.push_str("\t}\n");
}

/// Segments that fill a packet into the tunnel, and no more.
fn write_limits(out: &mut Draft, limits: &[SegmentLimit], remarks: &Remarks) {
    if limits.is_empty() {
        return;
    }
    remark(out, "\t", &remarks.mtu);
    out.push_str("\tchain segments {\n\t\ttype filter hook forward priority -150; policy accept;\n");
    for limit in limits {
        let family = if limit.ipv4 { "ipv4" } else { "ipv6" };
        let ends = format!("oifname \"{}\" meta nfproto {family}", limit.interface);
        let _ = writeln!(out, "\t\t{ends} tcp flags syn tcp option maxseg size set {}", limit.bytes);
    }
    out.push_str("\t}\n");
}

/// Networks and addresses in words: the same ones come again in very many rules.
#[derive(Default)]
struct Nets(Vec<(IpNet, String)>);

impl Nets {
    /// With its length.
    fn prefix(&mut self, net: IpNet) -> &str {
        let at = self.0.iter().rposition(|(known, _)| *known == net).unwrap_or_else(|| {
            // A tunnel of very many networks is not worth a search for each of its rules.
            self.0.truncate(KNOWN);
            self.0.push((net, address_text::prefix(net)));
            self.0.len() - 1
        });
        &self.0[at].1
    }

    /// The same; or the address alone of a network that is one.
    fn word(&mut self, net: IpNet) -> &str {
        let is_one = net.prefix_len() == net.max_prefix_len();
        let text = self.prefix(net);
        match text.rsplit_once('/').filter(|_| is_one) {
            Some((address, _)) => address,
            None => text,
        }
    }

    /// Writes source and destination of a rule.
    fn ends(&mut self, out: &mut Draft, from: IpNet, to: IpNet) {
        let (family, number) = if from.addr().is_ipv4() { ("ip", "ipv4") } else { ("ip6", "ipv6") };
        let start = out.len();
        for (net, which) in [(from, "saddr"), (to, "daddr")] {
            if net.prefix_len() > 0 {
                out.extend([if out.len() > start { " " } else { "" }, family, " ", which, " ", self.word(net)]);
            }
        }
        if out.len() == start {
            out.extend(["meta nfproto ", number]);
        }
    }
}

/// As many as are looked through.
const KNOWN: usize = 16;

fn write_filter(out: &mut Draft, filter: &Filter, table: &str, indent: &str, nets: &mut Nets, remarks: &Remarks) {
    remark(out, indent, &remarks.filter);
    let sends = filter.rules.iter().any(|rule| rule.hook == Hook::Output);
    let hooks = [(Hook::Input, "input"), (Hook::Forward, "forward"), (Hook::Output, "output")];
    for (hook, word) in hooks.into_iter().filter(|(hook, _)| *hook != Hook::Output || sends) {
        match filter.form {
            FilterForm::Standalone => {
                let _ = writeln!(out, "{indent}chain {word} {{\n{indent}\ttype filter hook {word} priority 0; policy accept;");
            }
            FilterForm::Joined => {
                let _ = writeln!(out, "{indent}chain {table}-{word} {{");
            }
        }
        for rule in filter.rules.iter().filter(|rule| rule.hook == hook) {
            out.extend([indent, "\t"]);
            filter_rule(out, rule, nets, table);
        }
        let _ = writeln!(out, "{indent}}}");
    }
}

fn filter_rule(text: &mut Draft, rule: &FilterRule, nets: &mut Nets, table: &str) {
    nets.ends(text, rule.from, rule.to);
    match &rule.protection {
        Protection::Any => {}
        Protection::Leaving => text.push_str(" rt ipsec exists"),
        Protection::Arrived => text.push_str(" meta ipsec exists"),
        Protection::Into(name) => drop(write!(text, " oifname \"{name}\"")),
        Protection::OutOf(name) => drop(write!(text, " iifname \"{name}\"")),
    }
    match &rule.traffic {
        Traffic::Any => {}
        Traffic::Udp(ports) => {
            let ports: Vec<_> = ports.iter().map(ToString::to_string).collect();
            let _ = write!(text, " udp dport {{ {} }}", ports.join(", "));
        }
        Traffic::Esp => text.push_str(" meta l4proto esp"),
        Traffic::Gre => text.push_str(" meta l4proto gre"),
        Traffic::Replies => text.push_str(" ct state established,related"),
        Traffic::Ping if rule.from.addr().is_ipv4() => text.push_str(" icmp type echo-request"),
        Traffic::Ping => text.push_str(" icmpv6 type echo-request"),
        Traffic::Neighbour(kind) => drop(write!(text, " icmpv6 type {kind}")),
        Traffic::To(transport, ports) => drop(write!(text, " {} dport {}", transport.word(), ports.written('-'))),
    }
    match rule.verdict {
        Verdict::Accept => text.push_str(" counter accept\n"),
        Verdict::Drop => text.push_str(" counter drop\n"),
        Verdict::Log => drop(writeln!(text, " limit rate {LOG_RATE}/second log prefix \"{table}: \"")),
    }
}
