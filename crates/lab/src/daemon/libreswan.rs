//! Libreswan: pluto, addconn and whack (ipsec_pluto(8), ipsec_addconn(8)), unpacked below the cache because its
//! package conflicts with strongSwan's.

use std::io;
use std::path::{Path, PathBuf};
use std::process::{Command, Stdio};

use super::{Daemon, Running, wait_for};
use crate::stage::Gateway;
use crate::stage::gateway::{bind, tmpfs};
use crate::stage::room::Said;

pub(super) struct Libreswan;

/// Where the package's programs look for each other.
const HOME: &str = "/usr/libexec/ipsec";

/// How pluto's log names groups.
#[rustfmt::skip]
const GROUPS: &[(u16, &str)] = &[
    (5, "MODP1536"), (14, "MODP2048"), (15, "MODP3072"), (16, "MODP4096"), (17, "MODP6144"), (18, "MODP8192"),
    (19, "DH19"), (20, "DH20"), (21, "DH21"), (31, "DH31"),
];

fn program(name: &str) -> String {
    format!("{HOME}/{name}")
}

fn whack(gateway: &Gateway, args: &[&str]) -> io::Result<Said> {
    gateway.room.tell(&program("whack"), args)
}

impl Daemon for Libreswan {
    fn platform(&self) -> &'static str {
        "libreswan"
    }

    fn programs(&self, cache: &Path) -> Vec<(PathBuf, &'static str)> {
        vec![
            (cache.join("libreswan/usr/libexec/ipsec/pluto"), "libreswan"),
            (PathBuf::from("/usr/bin/certutil"), "libnss3-tools"),
            (PathBuf::from("/usr/lib/x86_64-linux-gnu/libunbound.so.8"), "libunbound8"),
            (PathBuf::from("/usr/lib/x86_64-linux-gnu/libldns.so.3"), "libldns3"),
        ]
    }

    fn furnish(&self, gateway: &Gateway, cache: &Path) -> io::Result<()> {
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

    fn start(&self, gateway: &Gateway, log: &Path) -> io::Result<Running> {
        gateway.room.run(|| std::fs::create_dir_all("/run/pluto"))?;
        let check = gateway.room.tell(&program("addconn"), &["--config", "/etc/ipsec.conf", "--checkconfig"])?;
        let mut command = Command::new(program("pluto"));
        command.args(["--nofork", "--config", "/etc/ipsec.conf", "--no-dnssec", "--logfile"]).arg(log);
        command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
        let child = gateway.room.start(command)?;
        let mut running = Running { child, log: log.to_owned(), loaders: vec![("addconn --checkconfig".to_owned(), check)] };
        if !wait_for(gateway, "/run/pluto/pluto.ctl") {
            running.loaders.push(("pluto".to_owned(), Said { fine: false, text: "pluto did not open its socket".to_owned() }));
            return Ok(running);
        }
        running.loaders.push(("whack --listen".to_owned(), whack(gateway, &["--listen"])?));
        let said = gateway.room.tell(&program("addconn"), &["--config", "/etc/ipsec.conf", "--autoall"])?;
        running.loaders.push(("addconn --autoall".to_owned(), said));
        Ok(running)
    }

    fn open(&self, gateway: &Gateway, _connection: &str, child: &str) -> io::Result<Said> {
        whack(gateway, &["--initiate", "--name", child])
    }

    fn close(&self, gateway: &Gateway, _connection: &str, children: &[&str]) -> io::Result<Said> {
        let mut all = Said { fine: true, text: String::new() };
        for child in children {
            let said = whack(gateway, &["--terminate", "--name", child])?;
            all.text.push_str(&said.text);
            all.fine &= said.fine;
        }
        Ok(all)
    }

    fn rekey_esp(&self, gateway: &Gateway, _connection: &str, child: &str) -> io::Result<Said> {
        whack(gateway, &["--rekey-ipsec", "--name", child])
    }

    fn rekey_ike(&self, gateway: &Gateway, _connection: &str, children: &[&str]) -> io::Result<Said> {
        // The IKE SA belongs to whichever connection opened it; only that one's name rekeys it.
        let mut said = Said::default();
        for child in children {
            said = whack(gateway, &["--rekey-ike", "--name", child])?;
            if !said.text.contains("does not have IKE SA") {
                break;
            }
        }
        Ok(said)
    }

    fn group_in_use(&self, _gateway: &Gateway, running: &Running, _connection: &str, child: &str, spi: u32) -> io::Result<Option<u16>> {
        let (name, spi) = (format!("\"{child}\""), format!("<0x{spi:08x}"));
        let lines = running.lines();
        let line = lines.iter().rev().find(|line| line.contains(&name) && line.contains(&spi));
        let suite = line.and_then(|line| line.split_once("xfrm=")).and_then(|(_, rest)| rest.split([' ', '}']).next());
        let word = suite.and_then(|suite| suite.rsplit('-').next());
        Ok(word.and_then(|word| GROUPS.iter().find(|(_, name)| *name == word).map(|(number, _)| *number)))
    }

    fn ike_sas(&self, gateway: &Gateway, _running: &Running, connection: &str) -> io::Result<Vec<String>> {
        let status = whack(gateway, &["--showstates"])?;
        let name = format!("\"{connection}_");
        let established = status.text.lines().filter(|line| line.contains(&name) && line.contains("established IKE SA"));
        Ok(established.filter_map(|line| line.split_whitespace().find(|word| word.starts_with('#')).map(str::to_owned)).collect())
    }

    fn tells_of_failure(&self, line: &str) -> bool {
        const WORDS: &[&str] = &[
            "NO_PROPOSAL", "AUTHENTICATION_FAILED", "TS_UNACCEPTABLE", "INVALID_KE", "no acceptable", "no local proposal", "failed", "failure",
            "mismatch", "retransmission", "timed out", "no connection", "refused", "rejected", "unsuccessful", "cannot", "no suitable",
        ];
        WORDS.iter().any(|word| line.contains(word))
    }
}
