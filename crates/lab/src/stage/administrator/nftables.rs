//! nftables (nft(8)).

use std::fmt::Write as _;
use std::io;
use std::path::Path;

use super::{Administrator, RuleListing};
use crate::job::JobSite;
use crate::stage::{StagedGateway, nft};

pub(super) struct NftablesAdministrator;

impl Administrator for NftablesAdministrator {
    fn word(&self) -> &'static str {
        "nftables"
    }

    fn program(&self) -> (&'static str, &'static str) {
        ("/usr/sbin/nft", "nftables")
    }

    fn administer(&self, gateway: &StagedGateway) -> io::Result<()> {
        let site = &gateway.site;
        let mut rules = String::new();
        if site.shares_internet {
            let hook = "type nat hook postrouting priority 100; policy accept;";
            let rule = format!("oifname \"{}\" counter masquerade", site.outside);
            let _ = writeln!(rules, "table inet administrator-nat {{\n\tchain postrouting {{\n\t\t{hook}\n\t\t{rule}\n\t}}\n}}");
        }
        rules.push_str(&if site.joined { own_filter(site) } else { guard(site) });
        nft(&gateway.room, rules)
    }

    /// The rules that are included jump to the tunnel's chains already.
    fn join(&self, _gateway: &StagedGateway) -> io::Result<()> {
        Ok(())
    }

    fn listings(&self) -> &'static [RuleListing] {
        &[("listing/nft", "nft", &["list", "ruleset"])]
    }

    fn keeps_joined(&self) -> bool {
        true
    }
}

/// A filter that drops, takes up the tunnel's chains and jumps to them.
fn own_filter(site: &JobSite) -> String {
    let chains: Vec<_> = site.files.iter().filter(|file| file.path.ends_with(".chains")).collect();
    let name = |path: &str| Path::new(path).file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
    let mut rules = String::from("table inet administrator {\n");
    for file in &chains {
        let _ = writeln!(rules, "\tinclude \"/{}\"", file.path);
    }
    let jumps = |hook: &str| chains.iter().map(|file| format!("\t\tjump {}-{hook}\n", name(&file.path))).collect::<String>();
    let inside = site.inside.iter().map(|name| format!(", \"{name}\"")).collect::<String>();
    let _ = writeln!(rules, "\tchain input {{\n\t\ttype filter hook input priority 0; policy drop;\n{}", jumps("input"));
    let _ = writeln!(rules, "\t\tct state established,related accept\n\t\tiifname {{ \"lo\"{inside} }} accept");
    rules.push_str("\t\tmeta l4proto { icmp, icmpv6 } accept\n\t}\n");
    let _ = writeln!(rules, "\tchain forward {{\n\t\ttype filter hook forward priority 0; policy drop;\n{}", jumps("forward"));
    let _ = writeln!(rules, "\t\tct state established,related accept");
    for name in &site.inside {
        let _ = writeln!(rules, "\t\tiifname \"{name}\" oifname \"{}\" accept", site.outside);
    }
    rules.push_str("\t}\n");
    let sending: Vec<_> = chains.iter().filter(|file| file.text.contains("-output {")).map(|file| name(&file.path)).collect();
    if !sending.is_empty() {
        rules.push_str("\tchain output {\n\t\ttype filter hook output priority 0; policy accept;\n");
        sending.iter().for_each(|name| rules.push_str(&format!("\t\tjump {name}-output\n")));
        rules.push_str("\t}\n");
    }
    rules.push_str("}\n");
    rules
}

/// For a gateway without a filter of its own: only that nobody on the internet opens connections inwards.
fn guard(site: &JobSite) -> String {
    let rule = format!("iifname \"{}\" meta ipsec missing ct state new counter drop", site.outside);
    format!(
        "table inet administrator {{\n\tchain forward {{\n\t\ttype filter hook forward priority 0; policy accept;\n\t\t{rule}\n\t}}\n}}\n"
    )
}
