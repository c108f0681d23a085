//! The pure core of Unified Span: text and values in, text and values out. No files, no clock, no
//! environment, no terminal, no process.
//!
//! # The way through
//!
//! 1. [`Source`] holds a text; [`Description::parse`] reads it, with the place of every value.
//! 2. [`check`] finds what would go wrong, before anything is decided.
//! 3. [`agree`] decides each value once for both ends, from what both platforms can do, with reasons.
//! 4. [`take_sides`] mirrors the agreement into two [`Gateway`]s: the hub model, seen from each end.
//! 5. A [`Platform`] writes a gateway as the files of a daemon and reads such files back; a
//!    [`PacketFilter`] does the same for translation and filter rules.
//! 6. [`hold`] holds two gateways, as read from their files, against each other.
//! 7. [`build`] goes the whole way for a description and returns trees of files, or findings.
//!
//! Everything that can be said to a user is a [`Finding`] of a rule in [`CATALOGUE`]. What an
//! algorithm is stands in the registry ([`algorithm`]); how a platform spells it, in the platform's
//! own table ([`Facts`]).

mod address_text;
mod adopt;
mod agreement;
pub mod algorithm;
mod build;
mod change;
mod check;
mod compare;
mod context;
mod description;
pub mod dialect;
mod digest;
mod drawing;
mod duration;
pub mod effort;
mod finding;
mod fits;
mod foreign;
mod gateway;
mod identity;
mod key;
mod mtu;
mod network;
mod origins;
mod packet_filter;
mod pairing;
mod parallel;
mod parameter;
mod platform;
mod rehearse;
mod retire;
pub mod routing;
mod secrecy;
mod secret;
mod sheet;
mod sides;
mod source;
pub mod statement;
mod steps;
mod subject;
mod walk;

pub use adopt::{Adopted, Adoptee, Note, adopt};
pub use agreement::{Agreement, Bundle, Reason, agree};
pub use build::{Build, Builder, BuiltTunnel, Flaw, Made, build, build_some, flaw, read_tree, verify};
pub use change::{Change, Effect, changes};
pub use check::{SecretFile, Supplied, check};
pub use compare::{ComparedPair, ComparedParameter, Comparison, Gravity, ReadGateway, Shown, compare_ends, compare_same};
pub use context::Context;
pub use description::{
    Address, Description, Given, Network, Opens, Pair, Pfs, Site, Tunnel, is_name, language, language_reference, schema,
};
pub use dialect::{Remarks, Unwritable};
pub use drawing::{Drawing, Link, Point, Rect, Theme, draw, escaped};
pub use duration::{duration_words, parse_duration};
pub use finding::{CATALOGUE, Finding, Rule, Severity, any_stops, finding_reference, in_reading_order, nearest, rule};
pub use foreign::{Foreign, foreign};
pub use gateway::{
    Action, BgpSession, Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, Filter, FilterForm, FilterRule, GRE, Gateway, Hook,
    Identity, Ike, IkeVersion, InterfaceKind, JoinedFile, KeyPair, Keying, Lifetime, Method, Mode, NatRule, NatTarget, OnDeadPeer, Opening,
    Origin, OwnAddress, Packet, PacketAt, PassedInterface, Passing, PinnedKey, Ports, Proposal, Protection, Protocol, ReadAt, Route,
    RoutingTable, Ruleset, SERVICES, SegmentLimit, Setting, SharedSecret, Test, Through, Traffic, Transport, Tree, TreeFile,
    TunnelInterface, Verdict, What, service, service_names,
};
pub use key::{Certificate, KeyFile, KeyKind, LAB_ORGANISATION, PublicKey};
pub use network::set_up;
pub use origins::{Origins, origins};
pub use packet_filter::{FoundRules, PacketFilter, write_rules};
pub use parameter::Parameter;
pub use platform::{
    AskedIdentity, Behaviour, ByCertificate, DeadPeer, DefaultProposal, DefaultProposals, Family, FurtherChild, Identities, InterfaceName,
    Interrupts, KeyKinds, Line, Liveness, LogLines, LongNumbersV1, Name, Narrowing, NatDetection, Observed, OfferV1, OpeningWay, OwnEnd,
    PfsChoice, PfsGroup, Preference, PrfChoice, Profile, Refusal, ReplayWindow, RoutesBy, Sa, SecretFor, SeveralPairs, Steering, TakeOut,
    ToStrangers, TransportMode, UnsaidIdentity, UnsaidProposalsV1, WithIkeSa,
};
pub use rehearse::{
    Actor, Cause, Cure, ExchangeType, KnownAddresses, Message, Notify, OpenedChild, Payload, Rehearsal, RehearsalFailure, Rehearsals,
    Stage, Step, outcome_only, rehearse,
};
pub use retire::{Retirement, retire};
pub use secrecy::{COVERED, covered, discreet};
pub use secret::Secret;
pub use sheet::{Agreed, AgreedValue, Fact, Field, Form, Handover, Refilled, Sheet, fill, fingerprint, form, sheet};
pub use sides::{End, Proofs, Side, cross_check, take_sides};
pub use source::{Located, Place, Position, Source, Span, is_plain, lines_shown, lines_written_out, misleads, shown};
pub use steps::{Look, Steps, Symptom, steps};
pub use subject::Subject;
pub use walk::{Aspect, Flow, Hop, Leg, Spot, Walk, Walker, walk};

/// Rules by name, for the command line's own findings.
pub mod rules {
    pub use crate::finding::{
        CHANGED_BY_HAND, DEVICE_FILE_MISSING, FOREIGN_FILE, LAB_LACKS_KERNEL, LAB_LACKS_PROGRAM, LAB_NEEDS_ROOT, NOT_A_FOLDER, NOT_UTF8,
        UNREADABLE_MANIFEST,
    };
}
