//! What is to be proven, as a value that travels into the lab, and what the lab tells on the way.
//!
//! The job file holds the trees with their secrets: it is written with mode 0600 into a folder that only root
//! can enter, and goes with it.

use std::collections::BTreeMap;
use std::fmt;
use std::net::IpAddr;

use ipnet::IpNet;
use serde::{Deserialize, Serialize};

use crate::update::{SiteUpdate, UpdateSeen};

/// One description, or the tunnels of it that were asked for, with the files of their gateways.
#[derive(Clone, Serialize, Deserialize)]
pub struct Job {
    /// Which job of the run this is.
    pub number: usize,
    /// The gateways.
    pub sites: Vec<JobSite>,
    /// The tunnels between them.
    pub tunnels: Vec<JobTunnel>,
    /// How far it goes.
    #[serde(default)]
    pub depth: Depth,
}

/// How far a job goes.
#[derive(Clone, Copy, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Depth {
    /// All checks.
    #[default]
    Proof,
    /// What algorithms decide: the tunnels are opened, packets of every size cross, and both SAs get new keys.
    Keys,
    /// The tunnels are opened and get new keys, whatever comes of it; that is told as [`Negotiation`]s.
    Negotiation,
    /// The tunnels are opened, and then everybody tries to reach everybody at the other end; that is told as [`Flowed`].
    Flows,
    /// What stood there before is up, and is taken over.
    Takeover,
    /// The tunnels are opened, and their gateways take up other files while packets cross; that is told as [`UpdateSeen`]s.
    Update,
}

/// What came of the negotiation of a tunnel.
#[derive(Clone, Debug, Default, PartialEq, Eq, Serialize, Deserialize)]
pub struct Negotiation {
    /// Whether both ends had an IKE SA at the same time.
    pub authenticated: bool,
    /// What each gateway's kernel sends through the SAs that came up: source and destination.
    pub selectors: [Vec<(IpNet, IpNet)>; 2],
    /// How many Child SAs both ends had in common, of as many as were to come.
    pub opened: (usize, usize),
    /// Whether the rekey of ESP gave new SAs, asked for by each end; nothing where it was not tried.
    pub rekeys_esp: [Option<bool>; 2],
    /// The same for the IKE SA.
    pub rekeys_ike: [Option<bool>; 2],
    /// The IKE messages on the internet until then, the first few.
    pub messages: Vec<IkeSeen>,
    /// What each end's daemon said of failures.
    pub words: [Vec<String>; 2],
}

/// A flow that was tried.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct Flowed {
    /// Its source.
    pub from: IpAddr,
    /// Its destination.
    pub to: IpAddr,
    /// The TCP port; nothing for an echo request.
    pub port: Option<u16>,
    /// Whether it arrived and its answer came back.
    pub worked: bool,
}

/// What can be seen of an IKE message from outside (RFC 7296 section 3.1, RFC 2408 section 3.1).
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct IkeSeen {
    /// Source.
    pub from: IpAddr,
    /// Destination.
    pub to: IpAddr,
    /// The major version.
    pub version: u8,
    /// The exchange, as the IANA registries number it.
    pub exchange: u8,
    /// The flags.
    pub flags: u8,
    /// The message ID.
    pub id: u32,
    /// Types of the notifications in clear.
    pub notifies: Vec<u16>,
    /// Its length in bytes: of what is encrypted nothing else is to be seen.
    pub bytes: usize,
}

/// A gateway, what stands around it, and its files.
#[derive(Clone, Serialize, Deserialize)]
pub struct JobSite {
    /// Its name.
    pub name: String,
    /// The word of its platform.
    pub platform: String,
    /// Its address on the internet.
    pub address: IpAddr,
    /// The address of its outside interface: the same, unless a NAT device stands before it.
    pub own: IpAddr,
    /// Whether that NAT device lets IKE and ESP in UDP in by itself.
    pub forwarded: bool,
    /// Names of gateways that it finds in its name service.
    pub names: Vec<(String, IpAddr)>,
    /// Interface towards the internet.
    pub outside: String,
    /// Interfaces towards the networks.
    pub inside: Vec<String>,
    /// Its networks, by name.
    pub networks: Vec<(String, IpNet)>,
    /// As what they are seen in its tunnels, where that is something else.
    pub seen: Vec<IpNet>,
    /// Whether the administrator translates what leaves for the internet.
    pub shares_internet: bool,
    /// The word of its packet filter.
    pub packet_filter: String,
    /// The commands that load the tunnels' rules.
    pub rules: Vec<String>,
    /// The commands with which people look at the daemon; `{}` is the tunnel's name.
    #[serde(default)]
    pub looks: Vec<String>,
    /// The commands that fill the daemon's database of keys.
    #[serde(default)]
    pub imports: Vec<String>,
    /// The commands that take up sessions of a routing protocol.
    #[serde(default)]
    pub routing: Vec<String>,
    /// The commands that set up tunnel interfaces.
    pub interfaces: Vec<String>,
    /// The scripts that take its tunnels out again, by tunnel.
    pub retire: BTreeMap<String, String>,
    /// Whether the administrator's own filter takes up our chains; otherwise there is none.
    pub joined: bool,
    /// Its files.
    pub files: Vec<SiteFile>,
    /// The program that takes them up there; otherwise they stand there when its daemon starts.
    #[serde(default)]
    pub program: Option<String>,
    /// What stands there before, if that is to be taken over.
    #[serde(default)]
    pub takeover: Option<Takeover>,
    /// What it takes up while its tunnels are up.
    #[serde(default)]
    pub update: Option<SiteUpdate>,
    /// A script of the user's that sets up what the gateway has beside the tunnel.
    pub script: Option<String>,
}

impl JobSite {
    /// Whether a NAT device stands before it.
    pub fn is_translated(&self) -> bool {
        self.own != self.address
    }
}

/// What stands on a gateway before, and how it is taken over.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct Takeover {
    /// Its files then.
    pub before: Vec<SiteFile>,
    /// The script that takes out what must go.
    pub script: String,
    /// The commands with which the new files are taken up.
    pub take_up: Vec<String>,
    /// What no file of the daemon's may say afterwards.
    pub gone: Vec<String>,
}

/// A file of a gateway.
#[derive(Clone, Serialize, Deserialize)]
pub struct SiteFile {
    /// Path below the gateway's `/`.
    pub path: String,
    /// Mode 0600.
    pub private: bool,
    /// Its bytes, as text.
    pub text: String,
}

impl fmt::Debug for SiteFile {
    /// Without the text: it may hold a secret.
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(&self.path)
    }
}

/// When an end opens a tunnel.
#[derive(Clone, Copy, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum JobOpening {
    /// As soon as its daemon starts.
    AtOnce,
    /// With the first packet.
    OnTraffic,
    /// When an engineer says so.
    ByHand,
    /// Never; it answers.
    Never,
}

/// A tunnel and what is expected of it.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct JobTunnel {
    /// Its name in the description, which is also the connection's name on both gateways.
    pub name: String,
    /// Its ends, as indices into the sites.
    pub ends: [usize; 2],
    /// What may cross.
    pub pairs: Vec<JobPair>,
    /// When each end opens it.
    pub opens: [JobOpening; 2],
    /// Peer-liveness interval in seconds.
    pub liveness: Option<u64>,
    /// The longest lives of the IKE SA and of ESP SAs in seconds.
    pub lifetimes: [u64; 2],
    /// The group that every rekey of ESP must use (IANA transform ID).
    pub pfs: Option<u16>,
    /// Whether the gateways tell each other of their networks.
    #[serde(default)]
    pub routing: bool,
    /// The network of its two interfaces, where they have addresses.
    #[serde(default)]
    pub link: Option<IpNet>,
    /// Whether ESP is in transport mode.
    #[serde(default)]
    pub transport: bool,
    /// Whether ESP is to travel in UDP.
    pub in_udp: bool,
    /// Whether ESP counts in 64 bits.
    pub extended: bool,
    /// The anti-replay window of each end in packets.
    pub windows: [u32; 2],
    /// Whether the DSCP is copied to the outer header, and back on arrival.
    pub dscp: [bool; 2],
    /// What the hosts of each end may open.
    pub opens_to: [OpensTo; 2],
    /// Whether each end drops what it does not carry of the networks of the two.
    #[serde(default)]
    pub drops_others: [bool; 2],
    /// The tunnel of another member, which the second end's hosts reach through this one and the hub, its first end.
    #[serde(default)]
    pub onward: Option<usize>,
    /// What the daemon of each end calls it: another tunnel's name, where they share an IKE SA under that.
    #[serde(default)]
    pub connections: [String; 2],
    /// The names of its Child SAs on both gateways.
    #[serde(default)]
    pub children: Vec<String>,
    /// What the selectors of each end's Child SAs name: own networks and the peer's.
    #[serde(default)]
    pub selectors: [Vec<(IpNet, IpNet)>; 2],
    /// Whether another tunnel has the same two gateways, and the same IKE SA.
    #[serde(default)]
    pub shared: bool,
    /// What of one end has no other way to the internet than through the other one.
    #[serde(default)]
    pub everything: Option<SentThrough>,
}

/// Networks of one end whose packets all go to the other one, unless another route has them.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct SentThrough {
    /// The other end.
    pub hub: usize,
    /// Whether it stands in for another one, which is there.
    pub stands_in: bool,
    /// The networks, as indices into those of the site.
    pub networks: Vec<usize>,
}

impl JobTunnel {
    /// Whether an end sends something when all that may be opened is: its own, or an answer. A datagram has none.
    pub fn sends(&self, end: usize) -> bool {
        let theirs = &self.opens_to[1 - end];
        let own = &self.opens_to[end];
        own.pings() || own.tcp.is_some() || own.udp.is_some() || theirs.pings() || theirs.tcp_port().is_some()
    }
}

impl OpensTo {
    /// Whether echo requests pass.
    pub fn pings(&self) -> bool {
        self.everything || self.echo
    }

    /// A TCP port that passes, if there is one; any, if all do.
    pub fn tcp_port(&self) -> Option<Option<u16>> {
        if self.everything { Some(None) } else { self.tcp.map(Some) }
    }

    /// The same of UDP.
    pub fn udp_port(&self) -> Option<Option<u16>> {
        if self.everything { Some(None) } else { self.udp.map(Some) }
    }
}

/// What hosts may open connections for, as far as it can be tried: a port each that the filter lets through.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
pub struct OpensTo {
    /// Whether anything passes.
    pub everything: bool,
    /// Whether echo requests pass.
    pub echo: bool,
    /// A TCP port that passes.
    pub tcp: Option<u16>,
    /// A UDP port that passes.
    pub udp: Option<u16>,
    /// A port that passes neither way; nothing where everything passes.
    pub closed: Option<u16>,
}

/// A pair of networks, or the two gateways themselves, and the Child SA that carries it.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct JobPair {
    /// The network of each end, as an index into its site's networks; nothing where the gateways speak for themselves.
    pub networks: Option<[usize; 2]>,
    /// As what each is seen from the other end.
    pub seen: [IpNet; 2],
    /// The name of the Child SA on both gateways.
    pub child: String,
}

/// What came of a check at one end, or in the direction that starts there.
#[derive(Clone, Debug, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case", tag = "result", content = "detail")]
pub enum Outcome {
    /// It holds; a detail may say how.
    Pass(String),
    /// It does not hold, and why.
    Fail(String),
    /// There is nothing to check, and why.
    Idle(String),
    /// An earlier failure leaves nothing to check.
    Unreached,
}

impl Outcome {
    /// A success without details.
    pub fn pass() -> Outcome {
        Outcome::Pass(String::new())
    }

    /// Whether it failed.
    pub fn failed(&self) -> bool {
        matches!(self, Outcome::Fail(_))
    }
}

/// A row of the table.
#[derive(Clone, Debug, Serialize, Deserialize)]
pub struct CheckRow {
    /// Which job it belongs to.
    pub job: usize,
    /// Which of its tunnels.
    pub tunnel: usize,
    /// What was checked: a stable word.
    pub check: Check,
    /// On what, for example a pair of networks; may be empty.
    pub about: String,
    /// At or from the first end, at or from the second.
    pub ends: [Outcome; 2],
    /// What the daemons said to it, where it failed.
    pub words: Vec<String>,
}

/// The checks, in the order in which they are made.
#[derive(Clone, Copy, Debug, PartialEq, Eq, PartialOrd, Ord, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Check {
    /// The loaders take up the files without a warning.
    Files,
    /// The tunnel is opened by this end, as the description says.
    Opens,
    /// Every pair has SAs of its own.
    Selectors,
    /// The gateway learned from its peer what stands behind that.
    Learned,
    /// An echo request crosses and its answer comes back.
    Ping,
    /// A TCP connection carries data, with the source untranslated.
    Tcp,
    /// The largest packet that the path takes arrives, and the host learns how large that is.
    FullSize,
    /// The counters of the SAs of both directions rise with the traffic.
    Counters,
    /// ESP on the internet, nothing in clear.
    Encrypted,
    /// What no selector covers does not arrive.
    Outsiders,
    /// What the filter does not let this end's hosts open does not arrive.
    Services,
    /// What goes to the internet leaves with the gateway's address.
    Internet,
    /// A rekey of ESP, asked for by this end, gives new SAs with the agreed group, and traffic goes on.
    RekeyEsp,
    /// The same for the IKE SA.
    RekeyIke,
    /// Where a NAT device stands on the way: after a silence of minutes this end's hosts still reach the other's.
    Quiet,
    /// Hosts behind another member of the group are reached through the hub.
    Onward,
    /// While this end is dead nothing leaves in clear.
    Silence,
    /// After this end died and started again the tunnel comes back as described.
    Returns,
    /// Nothing is left of the tunnel after it was taken out.
    Retired,
    /// What was there before is taken over: one tunnel, and nothing of the old one left.
    TakenOver,
}

impl Check {
    /// All of them.
    pub const ALL: [Check; 20] = [
        Check::Files,
        Check::Opens,
        Check::Selectors,
        Check::Learned,
        Check::Ping,
        Check::Tcp,
        Check::FullSize,
        Check::Counters,
        Check::Encrypted,
        Check::Outsiders,
        Check::Services,
        Check::Internet,
        Check::RekeyEsp,
        Check::RekeyIke,
        Check::Quiet,
        Check::Onward,
        Check::Silence,
        Check::Returns,
        Check::Retired,
        Check::TakenOver,
    ];

    /// In words, for the table.
    pub fn words(self) -> &'static str {
        match self {
            Check::Files => "files are taken up without a warning",
            Check::Opens => "opens the tunnel",
            Check::Selectors => "each pair has its SAs",
            Check::Learned => "learns the peer's networks",
            Check::Ping => "ping",
            Check::Tcp => "TCP, source kept",
            Check::FullSize => "full-size packet",
            Check::Counters => "counters of both SAs rise",
            Check::Encrypted => "ESP on the internet, nothing in clear",
            Check::Outsiders => "outside the selectors nothing arrives",
            Check::Services => "other services do not arrive",
            Check::Internet => "internet traffic is translated",
            Check::RekeyEsp => "rekey of ESP, traffic goes on",
            Check::RekeyIke => "rekey of the IKE SA, traffic goes on",
            Check::Quiet => "after five minutes of silence: traffic",
            Check::Onward => "another member, through the hub",
            Check::Silence => "dead: nothing leaves in clear",
            Check::Returns => "dead and started again: traffic returns",
            Check::Retired => "taken out again: nothing is left",
            Check::TakenOver => "taken over: one tunnel, nothing of the old",
        }
    }

    /// What to look at when it fails, in the trade's words.
    pub fn advice(self) -> &'static str {
        match self {
            Check::Files => "the daemon's loader or nft refused a file: look at the line it names",
            Check::Opens => {
                "no IKE SA: reachability (UDP 500, 4500), IKE proposal, secret or identity; IKE SA but no ESP SA: selectors or ESP proposal"
            }
            Check::Selectors => "a pair without SAs: its selectors do not mirror each other",
            Check::Learned => "the routing session: its addresses and systems, TCP 179 in the filter, what each end may say",
            Check::Ping | Check::Tcp => {
                "SAs but no traffic: NAT exemption, routes; one direction only: the filter on the side where it ends"
            }
            Check::FullSize => "large packets are lost: the filter drops ICMP `fragmentation needed`, or the MTU is wrong",
            Check::Counters => "traffic crosses, but not through these SAs",
            Check::Encrypted => "packets leave in clear: selectors, or a route around the tunnel",
            Check::Outsiders => "a selector or a filter rule is wider than the description",
            Check::Services => "a filter rule that is wider than the description, or one before it",
            Check::Internet => "the exemption covers too much",
            Check::RekeyEsp => "the groups for perfect forward secrecy differ, or the ESP proposal does",
            Check::RekeyIke => "the IKE proposal differs from the one that opened the tunnel",
            Check::Quiet => "the NAT device forgot the gateway behind it: liveness, or keepalives of its daemon",
            Check::Onward => "routes at the member, forwarding and the filter of the hub",
            Check::Silence => "nothing holds packets back while the tunnel is down",
            Check::Returns => "the peer-liveness check, or who may open the tunnel",
            Check::Retired | Check::TakenOver => "something that the script does not take along",
        }
    }
}

/// What the lab tells while it works, a line of JSON each.
#[derive(Clone, Debug, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Event {
    /// The lab is up, on this kernel.
    Up(String),
    /// What it does now.
    Now {
        /// In which job.
        job: usize,
        /// In words.
        doing: String,
    },
    /// A check was made.
    Row(CheckRow),
    /// A warning that a daemon printed.
    Warning {
        /// In which job.
        job: usize,
        /// On which site.
        site: String,
        /// What it printed.
        line: String,
    },
    /// A tunnel was negotiated, or not.
    Negotiated {
        /// In which job.
        job: usize,
        /// Which of its tunnels.
        tunnel: usize,
        /// What came of it.
        came: Box<Negotiation>,
    },
    /// Flows between the two ends of a tunnel were tried.
    Flowed {
        /// In which job.
        job: usize,
        /// Which of its tunnels.
        tunnel: usize,
        /// The inside address of each gateway that has one.
        inside: [Option<IpAddr>; 2],
        /// The flows.
        flows: Vec<Flowed>,
        /// What each gateway listed of its rules, addresses and routes, by the file of a tree that it would be.
        listings: [BTreeMap<String, String>; 2],
    },
    /// Something was done to a gateway while packets crossed.
    Updated {
        /// In which job.
        job: usize,
        /// What came of it.
        seen: UpdateSeen,
    },
    /// A job is through.
    Through(usize),
    /// The lab itself failed in a job.
    Broken {
        /// In which job.
        job: usize,
        /// How.
        how: String,
    },
}
