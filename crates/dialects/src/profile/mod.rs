//! What is known of a platform in one release: a value.
//!
//! Another release is the same value with changes ([`Profile::with`]). What several releases of a daemon share, the syntax of its files
//! and how statements stand in them, is its [`Family`].

mod behaviour;
pub(crate) mod names;
mod offers;
pub mod statement;

pub use behaviour::{
    Answering, AskedIdentity, Behaviour, ByCertificate, FurtherChild, Line, LogLines, LongNumbersV1, MainModeSecret, Narrowing, Observed,
    OddKey, OfferV1, PfsGroup, Preference, Refusal, SecretFor, ShownCertificate, SubjectOrder, ToStrangers, TransportMode, UnsaidIdentity,
    UnsaidProposalsV1, WithIkeSa,
};
pub use names::{Name, Names, Sa};
pub use offers::{DefaultProposal, DefaultProposals};

use std::borrow::Cow;
use std::fmt;
use std::ops::Range;
use std::time::Duration;

use statement::Statements;

use crate::delivery::{NOTHING, PartSteps};
use crate::dialect::{Remarks, Unwritable};
use uspan_model::algorithm::{Kind, Transform};
use uspan_model::finding::Finding;
use uspan_model::gateway::{Dscp, Encapsulation, Endpoint, Gateway, Identity, IkeVersion, Method, Tree, ike_differences};

/// A text of a profile.
pub(crate) type Text = Cow<'static, str>;

/// A text of a profile that comes with the program.
pub(crate) const fn text(text: &'static str) -> Text {
    Cow::Borrowed(text)
}

/// A platform in one release: all that the program knows about it.
#[derive(Clone)]
pub struct Profile {
    /// The word in descriptions.
    pub word: Text,
    /// Name and release.
    pub title: Text,
    /// The release that is written for.
    pub release: Text,
    /// Who runs it.
    pub run_by: RunBy,
    /// The platform that its tunnels are written for, where its own files are only read.
    pub written_as: Option<Text>,
    /// The manual pages the facts were taken from, and how they were checked.
    pub source: Text,
    /// What must be installed for all of them to hold.
    pub packages: Text,
    /// Where its files stand, for people.
    pub files: Text,
    /// How paths of its files begin, below `/`.
    pub reads_below: Cow<'static, [Text]>,
    /// What writes and reads them.
    pub family: &'static dyn Family,
    /// The statements of its files, in the order in which they are written.
    pub statements: Statements,
    /// Versions of the key exchange.
    pub versions: Cow<'static, [IkeVersion]>,
    /// Spellings of the algorithms that it can do, by kind.
    pub names: Names,
    /// How the PRF is chosen.
    pub prf: PrfChoice,
    /// How the group for PFS is chosen.
    pub pfs: PfsChoice,
    /// The groups that it can use for PFS in IKEv1; all of its own where nothing is said.
    pub ikev1_pfs_groups: Option<Cow<'static, [u16]>>,
    /// The groups that it has in IKEv1 under their numbers of IKEv2, which the registry of IKEv1 does not have.
    pub unregistered_v1: Observed<&'static [u16]>,
    /// The longest lifetime it accepts.
    pub longest_lifetime: Duration,
    /// What becomes of several pairs when the peer is dead.
    pub dead_peer: Observed<DeadPeer>,
    /// How it can carry several pairs of networks between two gateways.
    pub selectors: Cow<'static, [SeveralPairs]>,
    /// When it can open a tunnel, beside at once.
    pub openings: Cow<'static, [OpeningWay]>,
    /// Kinds of identities, beside address, DNS name and mail-like name.
    pub identities: Identities,
    /// How a tunnel interface may be called.
    pub interface_name: InterfaceName,
    /// What can steer packets into a tunnel.
    pub steering: Cow<'static, [Steering]>,
    /// Which of a connection's two ends is its own.
    pub own_end: OwnEnd,
    /// What a connection can say of ESP in UDP.
    pub encapsulations: Cow<'static, [Encapsulation]>,
    /// Whether it finds NAT devices also where its own address is not configured (RFC 7296 section 2.23).
    pub nat_detection: Observed<NatDetection>,
    /// How far a liveness interval reaches.
    pub liveness: Liveness,
    /// Whether the replay window can be set.
    pub replay_window: ReplayWindow,
    /// The lengths of sequence numbers that ESP can have, in bits.
    pub sequence_numbers: Cow<'static, [u8]>,
    /// How it can prove who it is, and have its peers prove it.
    pub methods: Cow<'static, [Method]>,
    /// The same in IKEv1 (RFC 2409 section 5).
    pub methods_v1: Observed<&'static [Method]>,
    /// Whether it finds the bare key of a peer that names itself by a subject.
    pub bare_keys_by_subject: Observed<bool>,
    /// For what keys the certificates of the two ends may be.
    pub key_kinds: KeyKinds,
    /// The same in IKEv1.
    pub key_kinds_v1: Observed<KeyKinds>,
    /// What can be made of the DSCP.
    pub dscp: Cow<'static, [Dscp]>,
    /// What it makes of two connections with the same selectors, to different peers through different interfaces.
    pub equal_selectors: Observed<EqualSelectors>,
    /// What it makes of a second tunnel to the same peer.
    pub second_tunnel: Observed<SecondTunnel>,
    /// Who sets the routes of policy-based tunnels.
    pub routes: RoutesBy,
    /// What it offers where a configuration names no proposals.
    pub offers: DefaultProposals,
    /// How it negotiates.
    pub behaviour: Behaviour,
    /// What holds where a configuration says nothing, for tables.
    pub defaults: Cow<'static, [(Text, Text)]>,
    /// Shell commands that make the gateway take up its files, for people; `{}` is a child's name.
    pub take_up: Cow<'static, [Text]>,
    /// The units of systemd that run it.
    pub services: Cow<'static, [Text]>,
    /// What that interrupts.
    pub take_up_interrupts: Observed<Interrupts>,
    /// What to look at once it runs, in order: what it shows, the shell command with `{}` for the tunnel's name, and what is seen
    /// when all is well.
    pub looks: Cow<'static, [(Text, Text, Text)]>,
    /// Shell commands that then open the tunnel at once, where taking up does not do that by itself.
    pub open: Cow<'static, [Text]>,
}

/// Who runs a gateway.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RunBy {
    /// We do: its files are written, and what stands around the daemon with them.
    Us,
    /// Somebody else does, and is told what to set.
    Others,
}

/// How the PRF of an IKE proposal is chosen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PrfChoice {
    /// By itself.
    Free,
    /// Beside a separate integrity algorithm it is the one of the same hash.
    OfIntegrity,
}

/// How the group for PFS is chosen.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum PfsChoice {
    /// For each ESP proposal.
    Each,
    /// One for all ESP proposals of a connection.
    OneForAll,
    /// New keys take the group that the IKE SA was negotiated with.
    OfIke,
}

/// What becomes of several pairs of networks when the peer is dead.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum DeadPeer {
    /// The IKE SA goes, and with it all of them; they are reopened over a new one.
    Forgotten,
    /// They are reopened over the dead IKE SA, which stays for as long as packets ask for them; in IKEv1 until it would end by itself.
    KeptWhileAsked,
}

/// A way to carry several pairs of networks between two gateways.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SeveralPairs {
    /// Several selectors in one Child SA (RFC 7296 section 2.9).
    InOneSa,
    /// Several Child SAs of one IKE SA.
    AnSaEach,
}

/// A way to open a tunnel, beside at once.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OpeningWay {
    /// When the first packet wants to cross.
    OnTraffic,
    /// When a packet wants to cross, beside at once: nothing leaves in clear before the SA is there.
    TrapBesideStart,
    /// By a command.
    ByHand,
}

/// What steers packets into a tunnel.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Steering {
    /// The selectors.
    Selectors,
    /// A tunnel interface and routes into it.
    Routes,
}

/// How a gateway knows which end of a connection is its own.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum OwnEnd {
    /// The files say it.
    Named,
    /// It is the one that has an address of its interfaces, whatever it is called.
    ByAddress,
}

/// Where NAT devices are found (RFC 7296 section 2.23).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum NatDetection {
    /// Wherever they are.
    Always,
    /// Only where the own address is configured; without it every path looks like one with a NAT device.
    NeedsOwnAddress,
}

/// For what keys the certificates of two ends may be.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum KeyKinds {
    /// For any.
    Any,
    /// For keys of one kind, ECDSA or RSA.
    SameAtBothEnds,
    /// For RSA keys.
    RsaAlone,
}

/// What a daemon makes of two connections with the same selectors, to different peers through different interfaces.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum EqualSelectors {
    /// Each has its SAs.
    Apart,
    /// The one that comes second gets none.
    OfOneAlone,
}

/// What a daemon makes of a second tunnel to the same peer, whose IKE SA the two share.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SecondTunnel {
    /// Its Child SAs are found where their connection has the name of the first one's, in whichever file.
    UnderOneName,
    /// Its Child SAs are found by their selectors, whatever the connection is called.
    BySelectors {
        /// Whether what the gateways themselves send each other comes back beside networks, where the daemon opens and its peer was lost.
        reopens_hosts: bool,
    },
    /// There is none: a peer has one connection.
    Never,
}

/// A second tunnel to the same peer, as a daemon is asked for it.
#[derive(Clone, Copy, Debug)]
pub struct AskedSecondTunnel {
    /// Whether the proposals for ESP of the two differ.
    pub other_esp: bool,
    /// Whether one of the two has an interface that its connection names.
    pub interface: bool,
    /// Whether the daemon opens them, and one of the two is what the gateways themselves send each other.
    pub opens_hosts: bool,
}

/// Why a daemon cannot have it.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum SecondTunnelObstacle {
    /// It judges a further Child SA by the proposals of the first.
    EspOfFirst,
    /// A peer has one tunnel.
    OneForEachPeer,
    /// All Child SAs of an IKE SA have one interface.
    OneInterface,
    /// What the gateways themselves send each other does not come back after the peer was lost.
    HostsLost,
}

/// Who sets the routes of policy-based tunnels.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum RoutesBy {
    /// The daemon.
    Daemon,
    /// Nobody: they are written.
    Files,
}

/// What taking up changed files interrupts.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Interrupts {
    /// Nothing: SAs go on until they are opened anew.
    Nothing,
    /// The tunnels whose files are taken up, where this gateway opens them by itself.
    WhereItOpens,
    /// The tunnels whose files are taken up.
    ItsTunnels,
}

/// Kinds of identities that not every platform knows.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Identities {
    /// ID_KEY_ID.
    pub free: bool,
}

/// How the interface of a route-based tunnel may be called.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum InterfaceName {
    /// As one likes.
    Free,
    /// This word and the interface's number.
    Numbered(&'static str),
}

/// How far a liveness interval reaches.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Liveness {
    /// Each connection has its own.
    OfConnection,
    /// One holds for the whole daemon.
    OfDaemon,
}

/// Whether a replay window can be set.
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ReplayWindow {
    /// For each Child SA, in packets.
    Settable,
    /// It is always this many packets.
    Fixed(u32),
}

/// Commands that take a tunnel out of a daemon.
#[derive(Clone, Debug, Default, PartialEq, Eq)]
pub struct TakeOut {
    /// Before its files are removed.
    pub before: Vec<String>,
    /// After that.
    pub after: Vec<String>,
}

/// What the releases of a daemon have in common: the syntax of its files, and how statements stand in them.
pub trait Family: Sync + fmt::Debug {
    /// Writes the IKE part of a gateway: one tunnel's share of it, in files named after `remarks.stem`.
    ///
    /// # Errors
    /// What the platform's files cannot express.
    fn write(&self, profile: &Profile, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>>;

    /// Reads the IKE part of a gateway from its files. Total: what is not understood is reported.
    fn read(&self, profile: &Profile, tree: &Tree) -> (Gateway, Vec<Finding>);

    /// Adds to a gateway that was read what goes from hand to hand, and stands in none of its files.
    fn hand_over(&self, _read: &mut Gateway, _planned: &Gateway) {}

    /// Whether files of a tree are for it, by their names.
    fn is_of(&self, tree: &Tree) -> bool;

    /// How many statements of a tree it does not take: of two platforms whose files have the same names that one has them which takes
    /// more.
    fn misfits(&self, _profile: &Profile, _tree: &Tree) -> usize {
        0
    }

    /// The bytes of each definition of a connection in a file: a section, a policy; whole ones alone, in order.
    fn definitions(&self, _text: &str) -> Vec<Range<usize>> {
        Vec::new()
    }

    /// Where each shared secret stands by itself, and the identities that it is for.
    fn secrets_at(&self, _tree: &Tree) -> Vec<(String, Range<usize>, Vec<Identity>)> {
        Vec::new()
    }

    /// The commands that take keys and certificates from a tree into a database of the daemon's, before it takes up the
    /// rest; nothing where it reads them from files.
    fn bring_in(&self, _tree: &Tree) -> Vec<String> {
        Vec::new()
    }

    /// The commands that end a tunnel and make the daemon forget it, before and after its files go; `shared`: whether another tunnel
    /// has the same IKE SA.
    fn take_out(&self, gateway: &Gateway, shared: bool) -> TakeOut;

    /// What is done on a gateway when its files change; nothing where nothing is written for us to take up.
    fn steps(&self) -> &'static PartSteps {
        &NOTHING
    }

    /// Files that the daemon cannot run without, whatever tunnels there are.
    fn needs(&self) -> &'static [&'static str] {
        &[]
    }
}

/// The identity of an end that states none: its address.
pub(crate) fn implied(at: &Endpoint) -> Identity {
    match at.first() {
        Endpoint::At(address) => Identity::Address(*address),
        Endpoint::Named(name) => Identity::Name(name.clone()),
        _ => Identity::Implied(OWN_ADDRESS),
    }
}

/// The identity of an end that says nothing of it, and whose address is not fixed.
pub const OWN_ADDRESS: &str = "its own address";

/// The identity of an end that takes it from its certificate.
pub const OF_CERTIFICATE: &str = "the subject of its certificate";

/// How long a silent peer is given in IKEv1, which asks it several times (RFC 3706); IKEv2 retransmits instead.
pub(crate) fn v1_patience(interval: Duration) -> Duration {
    interval * 5
}

impl Profile {
    /// The same with changes: another release.
    #[must_use]
    pub fn with(&self, change: impl FnOnce(&mut Profile)) -> Profile {
        let mut changed = self.clone();
        change(&mut changed);
        changed
    }

    /// Writes the IKE part of a gateway: one tunnel's share of it, in files named after `remarks.stem`. What is written reads back as it
    /// was meant.
    ///
    /// # Errors
    /// What the platform's files cannot express.
    pub fn write(&self, gateway: &Gateway, remarks: &Remarks) -> Result<Tree, Vec<Unwritable>> {
        let tree = self.family.write(self, gateway, remarks)?;
        let (mut read, findings) = self.read(&tree);
        self.family.hand_over(&mut read, gateway);
        let lost = findings.iter().map(|finding| finding.message.clone()).chain(ike_differences(gateway, &read)).collect::<Vec<_>>();
        if lost.is_empty() { Ok(tree) } else { Err(Unwritable::lost(lost, &self.title)) }
    }

    /// Reads the IKE part of a gateway from its files. Total: what is not understood is reported.
    pub fn read(&self, tree: &Tree) -> (Gateway, Vec<Finding>) {
        self.family.read(self, tree)
    }

    /// The spelling of an algorithm for an SA, if the platform can do it.
    pub fn spelling(&self, transform: Transform, sa: Sa) -> Option<&str> {
        self.names.of_transform(transform).find(|row| row.sa.covers(sa)).map(|row| &*row.word)
    }

    /// The algorithm of a kind that the platform spells like that, for whatever SA it can use it.
    pub fn algorithm(&self, kind: Kind, word: &str) -> Option<Transform> {
        self.names.of_word(word).find(|row| row.transform.kind == kind).map(|row| row.transform)
    }

    /// The same of several kinds; a word that stands for more than one is of the first.
    pub fn algorithm_of(&self, kinds: &[Kind], word: &str) -> Option<Transform> {
        let place = |row: &&Name| kinds.iter().position(|kind| *kind == row.transform.kind);
        let found = self.names.of_word(word).filter_map(|row| Some((place(&row)?, row.transform)));
        found.min_by_key(|(place, _)| *place).map(|(_, transform)| transform)
    }

    /// Whether the platform can do an algorithm in an SA.
    pub fn can(&self, transform: Transform, sa: Sa) -> bool {
        self.spelling(transform, sa).is_some()
    }

    /// Whether somebody else runs it.
    pub fn is_run_by_others(&self) -> bool {
        self.run_by == RunBy::Others
    }

    /// Whether a way to open a tunnel is one of its own.
    pub fn opens(&self, way: OpeningWay) -> bool {
        self.openings.contains(&way)
    }

    /// What keeps it from having a second tunnel to the same peer.
    pub fn second_tunnel_obstacle(&self, asked: AskedSecondTunnel) -> Option<SecondTunnelObstacle> {
        if asked.other_esp && self.behaviour.further_child == FurtherChild::ByFirst {
            return Some(SecondTunnelObstacle::EspOfFirst);
        }
        match self.second_tunnel.value {
            SecondTunnel::Never => Some(SecondTunnelObstacle::OneForEachPeer),
            SecondTunnel::UnderOneName => asked.interface.then_some(SecondTunnelObstacle::OneInterface),
            SecondTunnel::BySelectors { reopens_hosts } => (asked.opens_hosts && !reopens_hosts).then_some(SecondTunnelObstacle::HostsLost),
        }
    }

    /// Whether routes can steer, instead of the selectors.
    pub fn is_steered_by_routes(&self) -> bool {
        self.steering.contains(&Steering::Routes)
    }

    /// Whether ESP can count in 64 bits.
    pub fn has_long_sequence_numbers(&self) -> bool {
        self.sequence_numbers.contains(&64)
    }
}

impl fmt::Debug for Profile {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        write!(f, "{} {}", self.word, self.release)
    }
}

impl PartialEq for Profile {
    fn eq(&self, other: &Self) -> bool {
        (&self.word, &self.release) == (&other.word, &other.release)
    }
}

impl Eq for Profile {}
