//! The stage: gateways, the hosts behind them and the internet between, each in a room of its own.
//!
//! The internet is a router that knows no private network and drops what comes from one or goes to one. No room
//! has a way out.

mod administrator;
pub mod etc;
pub(crate) mod gateway;
pub mod plan;
pub mod room;
pub mod services;

use std::fmt::Write as _;
use std::io;
use std::net::IpAddr;
use std::path::Path;

use ipnet::IpNet;

pub use administrator::{ADMINISTRATORS, RuleListing};
pub use gateway::StagedGateway;

use crate::job::{Job, JobSite};
use plan::Host;
use room::Room;

/// The internet, the gateways and the hosts.
pub struct Testbed {
    /// The router between the gateways, with a host of its own on it.
    pub internet: Room,
    /// The gateways, in the order of the job's sites.
    pub gateways: Vec<StagedGateway>,
    /// The hosts of each site, in the order of its networks.
    pub hosts: Vec<Vec<Machine>>,
    /// Hosts of each site in networks that no selector covers, one for each family in use.
    pub strangers: Vec<Vec<Machine>>,
    /// The internet host's addresses.
    pub internet_hosts: Vec<IpAddr>,
    /// The NAT device before each gateway that has one.
    devices: Vec<Option<Room>>,
    /// Where the cables of the LANs meet.
    wires: Room,
}

/// A host behind a gateway.
pub struct Machine {
    /// Where it lives.
    pub room: Room,
    /// Its place in the network.
    pub host: Host,
}

impl Testbed {
    /// Sets the stage. `state` is a folder for what the gateways find at their `/etc`.
    ///
    /// # Errors
    /// When the kernel refuses a namespace, a link, an address or a rule.
    pub fn set(job: &Job, state: &Path) -> io::Result<Testbed> {
        let families: Vec<_> = [true, false].into_iter().filter(|v4| uses(job, *v4)).map(|v4| plan::family(job, v4)).collect();
        let mut stage = Testbed {
            internet_hosts: families.iter().map(|family| family.internet).collect(),
            internet: Room::new("internet", false)?,
            gateways: Vec::new(),
            hosts: Vec::new(),
            strangers: Vec::new(),
            devices: Vec::new(),
            wires: Room::new("wires", false)?,
        };
        forwarding(&stage.internet)?;
        stage.plan_the_internet();
        for (i, site) in job.sites.iter().enumerate() {
            stage.add_gateway(job, i, state)?;
            // Behind a host is nobody.
            let behind = families.iter().filter(|_| !site.inside.is_empty());
            let strangers = behind.map(|family| plan::host(family.strangers[i], 0)).collect();
            let hosts = stage.add_machines(i, 'h', plan::hosts(site))?;
            let strangers = stage.add_machines(i, 's', strangers)?;
            stage.hosts.push(hosts);
            stage.strangers.push(strangers);
        }
        let machines = stage.hosts.iter().chain(&stage.strangers).flatten().map(|machine| &machine.room);
        let routers = stage.gateways.iter().map(|gateway| &gateway.room).chain(stage.devices.iter().flatten());
        // Where the cables are laid comes first.
        [&stage.wires, &stage.internet].into_iter().chain(routers).chain(machines).try_for_each(Room::furnish)?;
        stage.guard_the_internet(job)?;
        for (i, device) in stage.devices.iter().enumerate() {
            device.iter().try_for_each(|device| nft(device, nat_rules(&job.sites[i])))?;
            stage.gateways[i].administer()?;
        }
        Ok(stage)
    }

    /// The internet's own host.
    fn plan_the_internet(&self) {
        self.internet.plan("link add here type dummy\nlink set here up\n");
        for address in &self.internet_hosts {
            self.internet.plan(&format!("addr add {} dev here{}\n", IpNet::from(*address), nodad(*address)));
        }
    }

    /// Lets nothing private pass.
    fn guard_the_internet(&self, job: &Job) -> io::Result<()> {
        let mut rules = String::from("table inet guard {\n\tchain forward {\n\t\ttype filter hook forward priority 0; policy accept;\n");
        for net in job.sites.iter().flat_map(|site| site.networks.iter().map(|(_, net)| *net)) {
            let family = if net.addr().is_ipv4() { "ip" } else { "ip6" };
            let _ = writeln!(rules, "\t\t{family} saddr {net} counter drop\n\t\t{family} daddr {net} counter drop");
        }
        rules.push_str("\t}\n}\n");
        nft(&self.internet, rules)
    }

    /// A gateway with its links: one to the internet, one for each inside interface.
    fn add_gateway(&mut self, job: &Job, i: usize, state: &Path) -> io::Result<()> {
        let site = &job.sites[i];
        let room = Room::new(&site.name, true)?;
        forwarding(&room)?;
        let device = site.is_translated().then(|| self.nat_device(job, i)).transpose()?;
        let router = device.as_ref().unwrap_or(&self.internet);
        self.connect([&room, router], [&site.outside, &format!("gw{i}")], site.own, plan::uplink(job, site.own));
        self.devices.push(device);
        // Whose networks are of the other family has a way to the internet in that, too; nobody answers there.
        if site.networks.iter().any(|(_, net)| net.addr().is_ipv4() != site.own.is_ipv4()) {
            let all = if site.own.is_ipv4() { "::/0" } else { "0.0.0.0/0" };
            room.plan(&format!("route add {all} dev {} metric 4000\n", site.outside));
        }
        for (n, inside) in site.inside.iter().enumerate() {
            self.lay_cable([&room, &self.wires], [inside, &format!("p{i}x{n}")]);
            room.plan(&format!("link set {inside} up\n"));
            let bridge = format!("link add b{i}x{n} type bridge forward_delay 0\nlink set b{i}x{n} up\n");
            self.wires.plan(&format!("{bridge}link set p{i}x{n} master b{i}x{n} up\n"));
        }
        self.gateways.push(StagedGateway::new(site.clone(), room, state)?);
        Ok(())
    }

    /// A device before gateway `i`.
    fn nat_device(&self, job: &Job, i: usize) -> io::Result<Room> {
        let device = Room::new(&format!("nat{i}"), false)?;
        forwarding(&device)?;
        let address = job.sites[i].address;
        self.connect([&device, &self.internet], ["wan", &format!("nat{i}")], address, plan::uplink(job, address));
        Ok(device)
    }

    fn add_machines(&self, i: usize, kind: char, hosts: Vec<Host>) -> io::Result<Vec<Machine>> {
        hosts.into_iter().enumerate().map(|(n, host)| self.add_machine(i, &format!("{kind}{i}x{n}"), host)).collect()
    }

    /// A host behind gateway `i`, on the cable of its inside interface.
    fn add_machine(&self, i: usize, name: &str, host: Host) -> io::Result<Machine> {
        let room = Room::new(name, false)?;
        self.lay_cable([&room, &self.wires], ["eth0", name]);
        room.plan("link set eth0 up\n");
        self.wires.plan(&format!("link set {name} master b{i}x{} up\n", host.inside));
        let (inside, length, nodad) = (&self.gateways[i].site.inside[host.inside], host.net.prefix_len(), nodad(host.address));
        let (gateway, near) = match host.gateway {
            Some(address) => (address, format!("addr add {address}/{length} dev {inside}{nodad}\n")),
            // A network with room for its one host: the gateway reaches it by a route.
            None => {
                let hop = plan::next_hop(host.address.is_ipv4());
                (hop, format!("addr replace {} dev {inside}{nodad}\nroute add {} dev {inside}\n", IpNet::from(hop), host.net))
            }
        };
        self.gateways[i].room.plan(&near);
        let own = format!("addr add {}/{length} dev eth0{nodad}\n", host.address);
        room.plan(&format!("{own}route add default via {gateway} dev eth0{}\n", onlink(gateway)));
        Ok(Machine { room, host })
    }

    /// A cable between two rooms, with an interface in each; laid before anything is plugged into it.
    fn lay_cable(&self, rooms: [&Room; 2], [name, other]: [&str; 2]) {
        let [near, far] = rooms.map(|room| room.path.display());
        self.wires.plan(&format!("link add name {name} netns {near} type veth peer name {other} netns {far}\n"));
    }

    /// A link from a room's own address to the next router, with the default route over it; the interfaces of both.
    fn connect(&self, [room, router]: [&Room; 2], [interface, far]: [&str; 2], own: IpAddr, (length, hop): (u8, IpAddr)) {
        let (net, nodad, onlink) = (IpNet::from(own), nodad(hop), onlink(hop));
        self.lay_cable([room, router], [interface, far]);
        router.plan(&format!("link set {far} up\naddr add {hop}/{length} dev {far}{nodad}\nroute replace {net} dev {far}\n"));
        let default = format!("route add default via {hop} dev {interface}{onlink}\n");
        room.plan(&format!("link set {interface} up\naddr add {own}/{length} dev {interface}{nodad}\n{default}"));
    }
}

/// What a NAT device does: it translates what leaves to the site's address, and lets in only answers, or what it was told to forward.
fn nat_rules(site: &JobSite) -> String {
    let family = if site.own.is_ipv4() { "ip" } else { "ip6" };
    let mut rules = format!("table {family} nat-device {{\n\tchain out {{\n\t\ttype nat hook postrouting priority 100;\n");
    rules.push_str("\t\toifname \"wan\" masquerade\n\t}\n");
    if site.forwarded {
        let _ = writeln!(rules, "\tchain in {{\n\t\ttype nat hook prerouting priority -100;");
        let _ = writeln!(rules, "\t\tiifname \"wan\" udp dport {{ 500, 4500 }} dnat to {}\n\t}}", site.own);
    }
    rules.push_str("\tchain pass {\n\t\ttype filter hook forward priority 0; policy drop;\n\t\tct state established,related accept\n");
    rules.push_str("\t\toifname \"wan\" accept\n\t\tct status dnat accept\n\t}\n}\n");
    rules
}

/// Whether a family occurs in a job.
fn uses(job: &Job, ipv4: bool) -> bool {
    job.sites.iter().any(|site| site.address.is_ipv4() == ipv4 || site.networks.iter().any(|(_, net)| net.addr().is_ipv4() == ipv4))
}

/// Addresses of IPv6 are in use at once here, without a search for duplicates.
fn nodad(address: IpAddr) -> &'static str {
    if address.is_ipv4() { "" } else { " nodad" }
}

/// A next hop that no network of the interface covers; those of IPv6 are link-local anyway.
fn onlink(hop: IpAddr) -> &'static str {
    if hop.is_ipv4() { " onlink" } else { "" }
}

/// Makes a room forward, with the loose source check that Debian 12 sets.
fn forwarding(room: &Room) -> io::Result<()> {
    room.run(|| {
        for (path, value) in [
            ("net/ipv4/ip_forward", "1"),
            ("net/ipv6/conf/all/forwarding", "1"),
            ("net/ipv4/conf/default/rp_filter", "2"),
            ("net/ipv4/conf/all/rp_filter", "2"),
        ] {
            let path = Path::new("/proc/sys").join(path);
            // A kernel without IPv6 has no such switch.
            if path.exists() {
                std::fs::write(&path, value)?;
            }
        }
        Ok(())
    })
}

/// Loads rules.
pub(crate) fn nft(room: &Room, rules: String) -> io::Result<()> {
    let said = room.tell_with("nft", &["-f", "-"], Some(rules.clone()))?;
    if said.fine { Ok(()) } else { Err(io::Error::other(format!("nft in {}: {}\n{rules}", room.name, said.text.trim()))) }
}
