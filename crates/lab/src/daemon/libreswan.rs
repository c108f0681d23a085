//! LibreswanDriver: pluto, addconn and whack (ipsec_pluto(8), ipsec_addconn(8)), unpacked below the cache because its
//! package conflicts with strongSwan's.

use std::io;
use std::net::IpAddr;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::{Daemon, Negotiated, Running, wait_for};
use crate::stage::StagedGateway;
use crate::stage::gateway::{bind, tmpfs};
use crate::stage::room::Said;

pub(super) struct LibreswanDriver;

/// Where the package's programs look for each other.
const HOME: &str = "/usr/libexec/ipsec";

/// How pluto's log names groups.
#[rustfmt::skip]
pub(super) const GROUPS: &[(u16, &str)] = &[
    (5, "MODP1536"), (14, "MODP2048"), (15, "MODP3072"), (16, "MODP4096"), (17, "MODP6144"), (18, "MODP8192"),
    (19, "DH19"), (20, "DH20"), (21, "DH21"), (31, "DH31"),
];

fn program(name: &str) -> String {
    format!("{HOME}/{name}")
}

fn whack(gateway: &StagedGateway, args: &[&str]) -> io::Result<Said> {
    gateway.room.tell(&program("whack"), args)
}

/// New keys of IKEv1 come from its timers alone.
fn unless_ikev1(said: Said) -> Option<Said> {
    (!said.text.contains("cannot force rekey of IKEv1")).then_some(said)
}

/// The established IKE SAs of a connection, by number.
fn ike_marks(gateway: &StagedGateway, connection: &str) -> io::Result<Vec<String>> {
    let status = whack(gateway, &["--showstates"])?;
    let name = format!("\"{connection}_");
    let established = status
        .text
        .lines()
        .filter(|line| line.contains(&name) && (line.contains("established IKE SA") || line.contains("IKE SA established")));
    Ok(established.filter_map(|line| line.split_whitespace().find(|word| word.starts_with('#')).map(str::to_owned)).collect())
}

impl Daemon for LibreswanDriver {
    fn platform(&self) -> &'static str {
        "libreswan"
    }

    fn loader(&self) -> &'static str {
        include_str!("../../scripts/load/libreswan.sh")
    }

    fn programs(&self, cache: &Path) -> Vec<(PathBuf, &'static str)> {
        vec![
            (cache.join("libreswan/usr/libexec/ipsec/pluto"), "libreswan"),
            (PathBuf::from("/usr/bin/certutil"), "libnss3-tools"),
            (PathBuf::from("/usr/bin/openssl"), "openssl"),
            (PathBuf::from("/usr/lib/x86_64-linux-gnu/libunbound.so.8"), "libunbound8"),
            (PathBuf::from("/usr/lib/x86_64-linux-gnu/libldns.so.3"), "libldns3"),
        ]
    }

    fn furnish(&self, gateway: &StagedGateway, cache: &Path) -> io::Result<()> {
        let package = cache.join("libreswan");
        gateway.add_etc(&package.join("etc"))?;
        gateway.room.run(move || -> io::Result<()> {
            tmpfs("/usr/libexec")?;
            bind(&package.join("usr/libexec/ipsec"), HOME)?;
            // Its scripts call `ipsec` by name.
            tmpfs("/usr/local/sbin")?;
            std::os::unix::fs::symlink(package.join("usr/sbin/ipsec"), "/usr/local/sbin/ipsec")?;
            tmpfs("/var/lib")?;
            std::fs::create_dir_all("/var/lib/ipsec/nss")
        })?;
        let said = gateway.room.tell("certutil", &["-N", "-d", "sql:/var/lib/ipsec/nss", "--empty-password"])?;
        if said.fine { Ok(()) } else { Err(io::Error::other(format!("certutil: {}", said.text.trim()))) }
    }

    fn start(&self, gateway: &StagedGateway, log: &Path) -> io::Result<Running> {
        gateway.room.run(|| std::fs::create_dir_all("/run/pluto"))?;
        let lines = std::fs::read_to_string(log).unwrap_or_default().lines().count();
        let check = gateway.room.tell(&program("addconn"), &["--config", "/etc/ipsec.conf", "--checkconfig"])?;
        let mut command = Command::new(program("pluto"));
        command.args(["--nofork", "--config", "/etc/ipsec.conf", "--no-dnssec", "--logfile"]).arg(log);
        let printed = log.with_extension("out");
        let out = std::fs::File::create(&printed)?;
        command.stdin(Stdio::null()).stdout(out.try_clone()?).stderr(out);
        let child = gateway.room.start(command)?;
        let mut running = Running { child, log: log.to_owned(), loaders: vec![("addconn --checkconfig".to_owned(), check)] };
        if !wait_for(gateway, "/run/pluto/pluto.ctl") {
            running.loaders.push(("pluto".to_owned(), Said { fine: false, text: "pluto did not open its socket".to_owned() }));
            return Ok(running);
        }
        // It lets addconn load what is to be loaded at boot: every section that says `auto`.
        let texts = gateway.site.files.iter().filter(|file| file.path.ends_with(".conf")).map(|file| file.text.as_str());
        let wanted = texts.flat_map(str::lines).filter(|line| line.trim_start().starts_with("auto=")).count();
        let added = |running: &Running| running.lines().iter().skip(lines).filter(|line| line.contains(": added IKE")).count();
        let loaded = (0..200).any(|_| {
            std::thread::sleep(std::time::Duration::from_millis(50));
            added(&running) >= wanted
        });
        if !loaded {
            let text = format!("{} of {wanted} connections were loaded", added(&running));
            running.loaders.push(("pluto".to_owned(), Said { fine: false, text }));
        }
        let said = std::fs::read_to_string(&printed).unwrap_or_default();
        running.loaders.push(("addconn --autoall".to_owned(), Said { fine: true, text: said }));
        // What cannot be loaded is complained of in the log; that a peer does not listen yet says nothing of the files.
        let refused = running
            .lines()
            .into_iter()
            .skip(lines)
            .filter(|line| line.contains("ERROR") && !line.contains("network error report") || line.contains("failed to add"))
            .collect::<Vec<_>>();
        running.loaders.push(("pluto".to_owned(), Said { fine: true, text: refused.join("\n") }));
        Ok(running)
    }

    fn open(&self, gateway: &StagedGateway, _connection: &str, child: &str) -> io::Result<Said> {
        whack(gateway, &["--initiate", "--name", child])
    }

    fn close(&self, gateway: &StagedGateway, connection: &str, children: &[&str]) -> io::Result<Said> {
        let mut all = Said { fine: true, text: String::new() };
        for child in children {
            let said = whack(gateway, &["--terminate", "--name", child])?;
            all.text.push_str(&said.text);
            all.fine &= said.fine;
        }
        // The IKE SA stays when the last of several connections that share it is terminated.
        for mark in ike_marks(gateway, connection)? {
            all.text.push_str(&whack(gateway, &["--deletestate", mark.trim_start_matches('#')])?.text);
        }
        Ok(all)
    }

    fn rekey_esp(&self, gateway: &StagedGateway, _connection: &str, child: &str) -> io::Result<Option<Said>> {
        whack(gateway, &["--rekey-ipsec", "--name", child]).map(unless_ikev1)
    }

    fn rekey_ike(&self, gateway: &StagedGateway, _connection: &str, children: &[&str]) -> io::Result<Option<Said>> {
        // The IKE SA belongs to whichever connection opened it; only that one's name rekeys it.
        let mut said = Said::default();
        for child in children {
            said = whack(gateway, &["--rekey-ike", "--name", child])?;
            if !said.text.contains("does not have IKE SA") {
                break;
            }
        }
        Ok(unless_ikev1(said))
    }

    fn group_in_use(
        &self,
        _gateway: &StagedGateway,
        running: &Running,
        _connection: &str,
        child: &str,
        spi: u32,
    ) -> io::Result<Negotiated> {
        let (name, spi) = (format!("\"{child}\""), format!("<0x{spi:08x}"));
        let lines = running.lines();
        let line = lines.iter().rev().find(|line| line.contains(&name) && line.contains(&spi));
        // Of Quick mode it does not tell the group.
        if line.is_none_or(|line| line.contains("IPsec SA") || line.contains("Quick Mode")) {
            return Ok(None);
        }
        let suite = line.and_then(|line| line.split_once("xfrm=")).and_then(|(_, rest)| rest.split([' ', '}']).next());
        let word = suite.and_then(|suite| suite.rsplit('-').next());
        Ok(Some(word.and_then(|word| GROUPS.iter().find(|(_, name)| *name == word).map(|(number, _)| *number))))
    }

    fn ike_sas(&self, gateway: &StagedGateway, _running: &Running, connection: &str, _peer: IpAddr) -> io::Result<Vec<String>> {
        ike_marks(gateway, connection)
    }

    fn tells_of_failure(&self, line: &str) -> bool {
        const WORDS: &[&str] = &[
            "NO_PROPOSAL",
            "AUTHENTICATION_FAILED",
            "TS_UNACCEPTABLE",
            "INVALID_KE",
            "no acceptable",
            "no local proposal",
            "failed",
            "failure",
            "mismatch",
            "retransmission",
            "timed out",
            "no connection",
            "ignoring IKEv1",
            "ignored notification",
            "connection found",
            "refused",
            "rejected",
            "unsuccessful",
            "cannot",
            "no suitable",
        ];
        WORDS.iter().any(|word| line.contains(word))
    }
}
