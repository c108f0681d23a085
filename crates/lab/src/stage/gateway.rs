//! A gateway: a room in which the tree of files stands at `/etc`, with what an administrator has there beside
//! the tunnel.

use std::fs;
use std::io;
use std::path::{Path, PathBuf};
use std::sync::OnceLock;

use rustix::mount::{MountFlags, UnmountFlags, mount, mount_bind, unmount};

use super::administrator::{Administrator, administrator};
use super::etc;
use super::room::{Room, Said};
use super::services;
use crate::job::{JobSite, SiteFile};

/// Where the machine's own `/etc` stays visible, below the state folder.
pub const MACHINE_ETC: &str = "machine-etc";

/// A gateway on the stage.
pub struct StagedGateway {
    /// What is known about it.
    pub site: JobSite,
    /// Where it lives.
    pub room: Room,
    /// What stands at its `/etc`.
    etc: PathBuf,
    /// Where what it is to take up was copied to.
    pub delivery: PathBuf,
    /// Rules and routes of its routing before any daemon runs.
    routing: OnceLock<Vec<String>>,
}

impl StagedGateway {
    /// Lays the tree over `/etc` and gives the gateway a `/run` of its own.
    pub(super) fn new(site: JobSite, room: Room, state: &Path) -> io::Result<StagedGateway> {
        let etc = state.join(&site.name).join("etc");
        etc::mirror(&state.join(MACHINE_ETC), &etc)?;
        match &site.program {
            Some(program) => deliver(&site.files, program, &etc, &state.join(&site.name).join(DELIVERY))?,
            None => {
                let standing = site.takeover.as_ref().map_or(&site.files, |takeover| &takeover.before);
                standing.iter().try_for_each(|file| etc::lay(&etc, file))?;
            }
        }
        let hosts: String = site.names.iter().map(|(name, address)| format!("{address} {name}\n")).collect();
        etc::lay(&etc, &SiteFile { path: "etc/hosts".to_owned(), private: false, text: format!("127.0.0.1 localhost\n{hosts}") })?;
        let source = "source /etc/network/interfaces.d/*\n".to_owned();
        etc::lay(&etc, &SiteFile { path: "etc/network/interfaces".to_owned(), private: false, text: source })?;
        let target = etc.clone();
        let keeps_copies = site.takeover.is_some();
        let delivered = site.program.is_some();
        let delivery = state.join(&site.name).join(DELIVERY);
        room.run(move || -> io::Result<()> {
            mount_bind(&target, "/etc")?;
            tmpfs("/run")?;
            if keeps_copies {
                tmpfs("/var/backups")?;
            }
            if delivered {
                own_state()?;
                services::furnish()?;
            }
            // As the boot scripts of interfaces(5) leave it.
            std::fs::create_dir_all("/run/network")
        })?;
        Ok(StagedGateway { site, room, etc, delivery, routing: OnceLock::new() })
    }

    /// Makes a package's folder show at `/etc` too, where the tree has nothing.
    ///
    /// # Errors
    /// On a failure of the file system.
    pub fn add_etc(&self, base: &Path) -> io::Result<()> {
        etc::add(base, &self.etc)
    }

    /// Puts the new files into the place of what was there before.
    ///
    /// # Errors
    /// On a failure of the file system.
    pub fn lay_new(&self) -> io::Result<()> {
        self.site.files.iter().try_for_each(|file| etc::lay(&self.etc, file))
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
        self.administrator()?.administer(self)?;
        if let Some(script) = &site.script {
            let said = self.room.tell_with("sh", &["-eu"], Some(script.clone()))?;
            if !said.fine {
                return Err(io::Error::other(format!("the script for {}: {}", site.name, said.text.trim())));
            }
        }
        Ok(())
    }

    /// Who keeps its packet filter.
    ///
    /// # Errors
    /// When there is no driver for that.
    pub fn administrator(&self) -> io::Result<&'static dyn Administrator> {
        let word = &self.site.packet_filter;
        administrator(word).ok_or_else(|| io::Error::other(format!("no packet filter `{word}` is known here")))
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

    /// Loads the keys and the rules of the tree, with the commands that go with it.
    ///
    /// # Errors
    /// When a command cannot be run; what it says is in the result.
    pub fn load_rules(&self) -> io::Result<Vec<(String, Said)>> {
        let said = |command: &String| Ok((command.clone(), self.room.tell("sh", &["-c", command])?));
        let loaded: Vec<_> =
            self.site.imports.iter().chain(&self.site.interfaces).chain(&self.site.rules).map(said).collect::<io::Result<_>>()?;
        self.rules_loaded()?;
        Ok(loaded)
    }

    /// What the administrator does once the tunnels' rules are loaded.
    ///
    /// # Errors
    /// When a command cannot be run.
    pub fn rules_loaded(&self) -> io::Result<()> {
        if self.site.joined {
            self.administrator()?.join(self)?;
        }
        // What is there at boot, before any daemon runs.
        let _ = self.routing.set(self.routing_now()?);
        Ok(())
    }

    /// Forgets what lives in memory only, as a loss of power does: SAs, policies, routes and rules of the daemon's,
    /// and what stands in `/run`. The packet filter stays: it is loaded at boot before the daemon runs.
    ///
    /// # Errors
    /// When `ip` fails.
    pub fn lose_power(&self) -> io::Result<()> {
        self.room.ip("xfrm state flush\nxfrm policy flush\n")?;
        let before = self.routing.get().map(Vec::as_slice).unwrap_or_default();
        let now = self.routing_now()?;
        let added: Vec<&str> = now.iter().filter(|line| !before.contains(line)).map(String::as_str).collect();
        for family in ["-4", "-6"] {
            let lines: Vec<String> = added.iter().filter_map(|line| line.strip_prefix(family)).map(|line| format!("{line}\n")).collect();
            if !lines.is_empty() {
                // One may go with another.
                self.room.tell_with("ip", &[family, "-force", "-batch", "-"], Some(lines.concat()))?;
            }
        }
        self.room.run(|| -> io::Result<()> {
            unmount("/run", UnmountFlags::DETACH)?;
            tmpfs("/run")
        })
    }
}

impl StagedGateway {
    /// Copies what it is to take up now to it, in the place of what was copied before.
    ///
    /// # Errors
    /// On a failure of the file system.
    pub fn deliver(&self, files: &[SiteFile], program: &str) -> io::Result<()> {
        fs::remove_dir_all(&self.delivery)?;
        deliver(files, program, &self.etc, &self.delivery)
    }

    /// Whether each of these files stands there as it is; whether none of those does that are of other files alone.
    pub fn has(&self, files: &[SiteFile], others: &[SiteFile]) -> bool {
        let same = |file: &SiteFile| fs::read(self.etc_path(&file.path)).is_ok_and(|bytes| bytes == file.text.as_bytes());
        let alone = others.iter().filter(|other| files.iter().all(|file| file.path != other.path));
        files.iter().all(same) && alone.into_iter().all(|file| !self.etc_path(&file.path).exists())
    }

    fn etc_path(&self, path: &str) -> PathBuf {
        self.etc.join(path.strip_prefix("etc/").unwrap_or(path))
    }

    /// Loses everything that lives in memory, and does what the boot of Debian does before it starts daemons: the kernel's switches
    /// (sysctl.d(5)), the administrator's own rules, units of ours that were enabled, interfaces (interfaces(5)).
    ///
    /// # Errors
    /// When a command cannot be run; what fails is in the result.
    pub fn boot(&self) -> io::Result<Option<String>> {
        self.lose_power()?;
        let made = self.room.tell("sh", &["-c", FORGET])?;
        if !made.fine {
            return Ok(Some(made.text));
        }
        self.room.run(|| -> io::Result<()> {
            services::furnish()?;
            fs::create_dir_all("/run/network")
        })?;
        self.administer()?;
        for unit in self.units() {
            let name = unit.rsplit('/').next().unwrap_or(&unit).trim_end_matches(".service");
            if !services::is_enabled(self, name) {
                return Ok(Some(format!("{name} is not enabled")));
            }
        }
        let said = self.room.tell("sh", &["-c", BOOT])?;
        Ok((!said.fine || !said.text.trim().is_empty()).then_some(said.text))
    }

    /// Units of ours that stand there.
    fn units(&self) -> Vec<String> {
        let entries = fs::read_dir(self.etc.join("systemd/system")).into_iter().flatten().flatten();
        let ours = entries.filter(|entry| entry.file_type().is_ok_and(|kind| kind.is_file()));
        ours.map(|entry| entry.file_name().to_string_lossy().into_owned()).collect()
    }
}

/// What a kernel that starts does not have.
const FORGET: &str = r#"nft flush ruleset
for kind in xfrm gre ip6gre dummy vti vti6; do
	ip -o link show type "$kind" | sed -n 's/^[0-9]*: \([^:@]*\).*/\1/p'
done | while read -r name; do
	case $name in gre0 | gretap0 | erspan0 | ip6gre0 | ip_vti0 | ip6_vti0) continue ;; esac
	ip link del "$name"
done
for switch in /proc/sys/net/ipv4/ip_forward /proc/sys/net/ipv6/conf/all/forwarding; do
	[ ! -e "$switch" ] || echo 0 >"$switch"
done"#;

/// What the boot does, in its order; units of ours as their files say it.
const BOOT: &str = r#"for file in /etc/sysctl.d/*unified-span*.conf; do [ ! -e "$file" ] || sysctl -q -p "$file"; done
for unit in /etc/systemd/system/*.service; do
	[ -f "$unit" ] && [ ! -L "$unit" ] || continue
	sed -n 's/^ExecStart=//p' "$unit" | while read -r line; do sh -c "$line"; done
done
ifup -a 2>&1"#;

/// Copies what a gateway is to take up to it, as `scp -r` does, and makes room for it at its `/etc`.
fn deliver(files: &[SiteFile], program: &str, etc: &Path, delivery: &Path) -> io::Result<()> {
    for file in files {
        etc::make_room(etc, &file.path)?;
        let copy = delivery.join(&file.path);
        fs::create_dir_all(copy.parent().unwrap_or(delivery))?;
        fs::write(copy, &file.text)?;
    }
    fs::create_dir_all(delivery)?;
    fs::write(delivery.join(uspan_core::PROGRAM), program)
}

/// A `/var/lib` of the gateway's own, with the folders of the machine's and those in them, and no file: daemons lock themselves up there.
fn own_state() -> io::Result<()> {
    let below = |folder: &Path| -> Vec<PathBuf> {
        // What only the machine's root may see is not there.
        let entries = fs::read_dir(folder).into_iter().flatten();
        entries.filter_map(|entry| Some(entry.ok()?.path())).filter(|path| path.is_dir() && !path.is_symlink()).collect()
    };
    let folders = below(Path::new("/var/lib"));
    let inner: Vec<PathBuf> = folders.iter().flat_map(|folder| below(folder)).collect();
    tmpfs("/var/lib")?;
    folders.into_iter().chain(inner).try_for_each(fs::create_dir)
}

/// The folder of the copy.
const DELIVERY: &str = "delivery";

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
