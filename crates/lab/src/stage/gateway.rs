//! A gateway: a room in which the tree of files stands at `/etc`, with what an administrator has there beside
//! the tunnel.

use std::fmt::Write as _;
use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use rustix::mount::{MountFlags, UnmountFlags, mount, mount_bind, unmount};

use super::room::{Room, Said};
use super::{etc, nft};
use crate::job::{Site, SiteFile};

/// Where the machine's own `/etc` stays visible, below the state folder.
pub const MACHINE_ETC: &str = "machine-etc";

/// A gateway on the stage.
pub struct Gateway {
    /// What is known about it.
    pub site: Site,
    /// Where it lives.
    pub room: Room,
    /// What stands at its `/etc`.
    etc: PathBuf,
    /// Rules and routes of its routing before any daemon runs.
    routing: OnceLock<Vec<String>>,
}

impl Gateway {
    /// Lays the tree over `/etc` and gives the gateway a `/run` of its own.
    pub(super) fn new(site: Site, room: Room, state: &Path) -> io::Result<Gateway> {
        let etc = state.join(&site.name).join("etc");
        etc::mirror(&state.join(MACHINE_ETC), &etc)?;
        for file in &site.files {
            etc::lay(&etc, file)?;
        }
        let hosts: String = site.names.iter().map(|(name, address)| format!("{address} {name}\n")).collect();
        etc::lay(&etc, &SiteFile { path: "etc/hosts".to_owned(), private: false, text: format!("127.0.0.1 localhost\n{hosts}") })?;
        let source = "source /etc/network/interfaces.d/*\n".to_owned();
        etc::lay(&etc, &SiteFile { path: "etc/network/interfaces".to_owned(), private: false, text: source })?;
        let target = etc.clone();
        room.run(move || -> io::Result<()> {
            mount_bind(&target, "/etc")?;
            tmpfs("/run")?;
            // As the boot scripts of interfaces(5) leave it.
            std::fs::create_dir_all("/run/network")
        })?;
        Ok(Gateway { site, room, etc, routing: OnceLock::new() })
    }

    /// Makes a package's folder show at `/etc` too, where the tree has nothing.
    ///
    /// # Errors
    /// On a failure of the file system.
    pub fn add_etc(&self, base: &Path) -> io::Result<()> {
        etc::add(base, &self.etc)
    }

    /// Lays a further file over `/etc`.
    ///
    /// # Errors
    /// On a failure of the file system.
    pub fn lay_etc(&self, path: &str, text: &str) -> io::Result<()> {
        etc::lay(&self.etc, &SiteFile { path: path.to_owned(), private: false, text: text.to_owned() })
    }

    /// The same, for root alone.
    ///
    /// # Errors
    /// On a failure of the file system.
    pub fn lay_private(&self, path: &str, text: &str) -> io::Result<()> {
        etc::lay(&self.etc, &SiteFile { path: path.to_owned(), private: true, text: text.to_owned() })
    }

    /// The default route came with the link. Masquerading where the site shares its internet access; a filter
    /// that lets the inside out and nothing unasked in; and the user's own script.
    pub(super) fn administer(&self) -> io::Result<()> {
        let site = &self.site;
        if site.packet_filter == "iptables" {
            self.administer_iptables()?;
        } else {
            self.administer_nftables()?;
        }
        if let Some(script) = &site.script {
            let said = self.room.tell_with("sh", &["-eu"], Some(script.clone()))?;
            if !said.fine {
                return Err(io::Error::other(format!("the script for {}: {}", site.name, said.text.trim())));
            }
        }
        Ok(())
    }

    fn administer_nftables(&self) -> io::Result<()> {
        let site = &self.site;
        let mut rules = String::new();
        if site.shares_internet {
            let hook = "type nat hook postrouting priority 100; policy accept;";
            let rule = format!("oifname \"{}\" counter masquerade", site.outside);
            let _ = writeln!(rules, "table inet administrator-nat {{\n\tchain postrouting {{\n\t\t{hook}\n\t\t{rule}\n\t}}\n}}");
        }
        rules.push_str(&if site.joined { self.own_filter() } else { self.guard() });
        nft(&self.room, rules)
    }

    /// The same in iptables' words. Jumps to the tunnel's chains follow when those are there.
    fn administer_iptables(&self) -> io::Result<()> {
        let site = &self.site;
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
            let said = self.room.tell_with(program, &["--noflush"], Some(rules.replace("ICMP", icmp)))?;
            if !said.fine {
                return Err(io::Error::other(format!("{program} on {}: {}\n{rules}", site.name, said.text.trim())));
            }
        }
        Ok(())
    }

    /// What the administrator of a filter does after loading a tunnel's chains: jumps to them before anything drops.
    fn join_iptables(&self) -> io::Result<()> {
        let texts = self.site.files.iter().filter(|file| file.path.starts_with("etc/iptables/"));
        let jumps = texts.flat_map(|file| file.text.lines()).filter_map(|line| line.strip_prefix("#     "));
        for jump in jumps {
            let said = self.room.tell("sh", &["-c", jump])?;
            if !said.fine {
                return Err(io::Error::other(format!("{jump}: {}", said.text.trim())));
            }
        }
        Ok(())
    }

    /// Rules and routes, each as the words that take it away again.
    fn routing_now(&self) -> io::Result<Vec<String>> {
        let mut all = Vec::new();
        for family in ["-4", "-6"] {
            let rules = self.room.tell("ip", &[family, "rule", "show"])?.text;
            all.extend(rules.lines().map(|line| format!("{family} rule del pref {}", line.split(':').next().unwrap_or_default())));
            let routes = self.room.tell("ip", &[family, "route", "show", "table", "all"])?.text;
            // The kernel's own routes come and go with addresses.
            let routes = routes.lines().filter(|line| !line.contains("table local") && !line.contains("proto kernel"));
            all.extend(routes.map(|line| format!("{family} route del {}", line.trim())));
        }
        Ok(all)
    }

    /// A filter that drops, takes up the tunnel's chains and jumps to them.
    fn own_filter(&self) -> String {
        let chains: Vec<_> = self.site.files.iter().filter(|file| file.path.ends_with(".chains")).collect();
        let name = |path: &str| Path::new(path).file_stem().map(|stem| stem.to_string_lossy().into_owned()).unwrap_or_default();
        let mut rules = String::from("table inet administrator {\n");
        for file in &chains {
            let _ = writeln!(rules, "\tinclude \"/{}\"", file.path);
        }
        let jumps = |hook: &str| chains.iter().map(|file| format!("\t\tjump {}-{hook}\n", name(&file.path))).collect::<String>();
        let inside = self.site.inside.iter().map(|name| format!(", \"{name}\"")).collect::<String>();
        let _ = writeln!(rules, "\tchain input {{\n\t\ttype filter hook input priority 0; policy drop;\n{}", jumps("input"));
        let _ = writeln!(rules, "\t\tct state established,related accept\n\t\tiifname {{ \"lo\"{inside} }} accept");
        rules.push_str("\t\tmeta l4proto { icmp, icmpv6 } accept\n\t}\n");
        let _ = writeln!(rules, "\tchain forward {{\n\t\ttype filter hook forward priority 0; policy drop;\n{}", jumps("forward"));
        let _ = writeln!(rules, "\t\tct state established,related accept");
        for name in &self.site.inside {
            let _ = writeln!(rules, "\t\tiifname \"{name}\" oifname \"{}\" accept", self.site.outside);
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
    fn guard(&self) -> String {
        let rule = format!("iifname \"{}\" meta ipsec missing ct state new counter drop", self.site.outside);
        format!(
            "table inet administrator {{\n\tchain forward {{\n\t\ttype filter hook forward priority 0; policy accept;\n\t\t{rule}\n\t}}\n}}\n"
        )
    }

    /// Loads the keys and the rules of the tree, with the commands that go with it.
    ///
    /// # Errors
    /// When a command cannot be run; what it says is in the result.
    pub fn load_rules(&self) -> io::Result<Vec<(String, Said)>> {
        let said = |command: &String| Ok((command.clone(), self.room.tell("sh", &["-c", command])?));
        let loaded: Vec<_> =
            self.site.imports.iter().chain(&self.site.interfaces).chain(&self.site.rules).map(said).collect::<io::Result<_>>()?;
        if self.site.joined && self.site.packet_filter == "iptables" {
            self.join_iptables()?;
        }
        // What is there at boot, before any daemon runs.
        let _ = self.routing.set(self.routing_now()?);
        Ok(loaded)
    }

    /// Forgets what lives in memory only, as a loss of power does: SAs, policies, routes and rules of the daemon's,
    /// and what stands in `/run`. The packet filter stays: it is loaded at boot before the daemon runs.
    ///
    /// # Errors
    /// When `ip` fails.
    pub fn lose_power(&self) -> io::Result<()> {
        self.room.ip("xfrm state flush\nxfrm policy flush\n")?;
        let before = self.routing.get().map(Vec::as_slice).unwrap_or_default();
        let added = self.routing_now()?.into_iter().filter(|line| !before.contains(line));
        for line in added {
            let words: Vec<&str> = line.split_whitespace().collect();
            // One may go with another.
            self.room.tell("ip", &words)?;
        }
        self.room.run(|| -> io::Result<()> {
            unmount("/run", UnmountFlags::DETACH)?;
            tmpfs("/run")
        })
    }
}

/// A file system in memory over a folder.
pub(crate) fn tmpfs(target: &str) -> io::Result<()> {
    mount("tmpfs", target, "tmpfs", MountFlags::empty(), None::<&std::ffi::CStr>)?;
    Ok(())
}

/// Makes a folder of the machine visible at another place.
pub(crate) fn bind(source: &Path, target: &str) -> io::Result<()> {
    fs::create_dir_all(target)?;
    mount_bind(source, target)?;
    Ok(())
}
