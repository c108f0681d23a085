//! iptables (iptables-restore(8)).

use std::fmt::Write as _;
use std::io;

use super::{Administrator, RuleListing};
use crate::stage::StagedGateway;

pub(super) struct IptablesAdministrator;

impl Administrator for IptablesAdministrator {
    fn word(&self) -> &'static str {
        "iptables"
    }

    fn program(&self) -> (&'static str, &'static str) {
        ("/usr/sbin/iptables-restore", "iptables")
    }

    /// Jumps to the tunnel's chains follow when those are there.
    fn administer(&self, gateway: &StagedGateway) -> io::Result<()> {
        let site = &gateway.site;
        let (outside, mut rules) = (&site.outside, String::new());
        if site.shares_internet {
            let _ = writeln!(rules, "*nat\n-A POSTROUTING -o {outside} -j MASQUERADE\nCOMMIT");
        }
        rules.push_str("*filter\n");
        if site.joined {
            rules.push_str(":INPUT DROP\n:FORWARD DROP\n-A INPUT -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT\n");
            rules.push_str("-A FORWARD -m conntrack --ctstate ESTABLISHED,RELATED -j ACCEPT\n-A INPUT -i lo -j ACCEPT\n");
            for inside in &site.inside {
                let _ = writeln!(rules, "-A INPUT -i {inside} -j ACCEPT\n-A FORWARD -i {inside} -o {outside} -j ACCEPT");
            }
            rules.push_str("-A INPUT -p ICMP -j ACCEPT\n");
        } else {
            let _ = writeln!(rules, "-A FORWARD -i {outside} -m policy --dir in --pol none -m conntrack --ctstate NEW -j DROP");
        }
        rules.push_str("COMMIT\n");
        for (program, icmp) in [("iptables-restore", "icmp"), ("ip6tables-restore", "icmpv6")] {
            let said = gateway.room.tell_with(program, &["--noflush"], Some(rules.replace("ICMP", icmp)))?;
            if !said.fine {
                return Err(io::Error::other(format!("{program} on {}: {}\n{rules}", site.name, said.text.trim())));
            }
        }
        Ok(())
    }

    /// What the administrator of a filter does after loading a tunnel's chains: jumps to them before anything drops.
    fn join(&self, gateway: &StagedGateway) -> io::Result<()> {
        let texts = gateway.site.files.iter().filter(|file| file.path.starts_with("etc/iptables/"));
        let jumps = texts.flat_map(|file| file.text.lines()).filter_map(|line| line.strip_prefix("#     "));
        for jump in jumps {
            let said = gateway.room.tell("sh", &["-c", jump])?;
            if !said.fine {
                return Err(io::Error::other(format!("{jump}: {}", said.text.trim())));
            }
        }
        Ok(())
    }

    fn listings(&self) -> &'static [RuleListing] {
        &[("listing/iptables", "iptables-save", &[]), ("listing/ip6tables", "ip6tables-save", &[])]
    }

    fn keeps_joined(&self) -> bool {
        false
    }
}
