//! FRRouting on a gateway: zebra and bgpd (zebra(8), bgpd(8)), told what to do through vtysh(1).

use std::io;
use std::path::PathBuf;
use std::process::{Child, Command, Stdio};

use super::wait_for;
use crate::stage::StagedGateway;
use crate::stage::room::Said;

/// Programs that must be there, with the package that brings them.
pub fn programs() -> Vec<(PathBuf, &'static str)> {
    ["/usr/lib/frr/zebra", "/usr/lib/frr/bgpd", "/usr/bin/vtysh"].map(|program| (PathBuf::from(program), "frr")).to_vec()
}

/// Commands, each with what it said.
pub type RouterTalk = Vec<(String, Said)>;

/// The daemons of one gateway; they end with this value.
pub struct Router {
    children: Vec<Child>,
}

impl Router {
    /// Starts the daemons and lets them take up the sessions, as the boot does. Returns what the commands said.
    ///
    /// # Errors
    /// When a program cannot be run.
    pub fn start(gateway: &StagedGateway) -> io::Result<(Router, RouterTalk)> {
        let (router, mut said) = Router::begin(gateway)?;
        let begun = said.iter().all(|(_, said)| said.fine);
        for command in gateway.site.routing.iter().filter(|_| begun) {
            said.push((command.clone(), gateway.room.tell("sh", &["-c", command])?));
        }
        Ok((router, said))
    }

    /// Starts the daemons without any session.
    ///
    /// # Errors
    /// When a program cannot be run.
    pub fn begin(gateway: &StagedGateway) -> io::Result<(Router, RouterTalk)> {
        // As the package installs it, where only its own user may read.
        if gateway.site.files.iter().all(|file| file.path != "etc/frr/vtysh.conf") {
            gateway.lay_etc("etc/frr/vtysh.conf", "service integrated-vtysh-config\n")?;
        }
        // As the package's start script leaves it.
        let folder = gateway.room.tell("install", &["-d", "-o", "frr", "-g", "frr", "-m", "775", "/run/frr"])?;
        let mut said = vec![("install".to_owned(), folder)];
        let mut router = Router { children: Vec::new() };
        for (daemon, socket) in [("zebra", "/run/frr/zebra.vty"), ("bgpd", "/run/frr/bgpd.vty")] {
            let mut command = Command::new(format!("/usr/lib/frr/{daemon}"));
            // Its own configuration would be the administrator's; here is none.
            command.args(["-A", "127.0.0.1", "-f", "/dev/null", "-i"]).arg(format!("/run/frr/{daemon}.pid"));
            command.stdin(Stdio::null()).stdout(Stdio::null()).stderr(Stdio::null());
            router.children.push(gateway.room.start(command)?);
            if !wait_for(gateway, socket) {
                said.push((daemon.to_owned(), Said { fine: false, text: format!("{daemon} did not open its socket") }));
                return Ok((router, said));
            }
        }
        Ok((router, said))
    }
}

impl Drop for Router {
    fn drop(&mut self) {
        for child in &mut self.children {
            let _ = child.kill();
            let _ = child.wait();
        }
    }
}
