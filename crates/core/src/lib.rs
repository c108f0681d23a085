//! The pure core of Unified Span: text and values in, text and values out. No files, no clock, no environment, no terminal, no process.
//!
//! This crate has what goes the whole way ([`build`], [`adopt()`], [`sheet()`], [`draw`], …), and hands on what the four below it have:
//!
//! 1. `uspan-model`: the hub model ([`Gateway`]), algorithms, findings, places in a text.
//! 2. `uspan-dialects`: what stands on gateways. A platform is a [`Profile`], a value; a [`Context`] is those that there are.
//! 3. `uspan-judge`: whether two gateways fit ([`compare_ends`], [`rehearse`], [`walk()`]). It knows neither description nor platform.
//! 4. `uspan-description`: the [`Description`], what is checked of it ([`check`]), what both ends agree on ([`agree`]), and the agreement
//!    as seen from each side ([`take_sides`]).
//!
//! The judge and the description do not know each other, and no dialect knows either.

mod adopt;
mod build;
mod change;
mod delivery;
mod drawing;
mod retire;
mod sheet;
mod steps;

// The whole way.
pub use adopt::{Adopted, Adoptee, Defined, Leaving, LeavingPart, Note, NoteKind, adopt, defined, leaving, stop};
pub use build::{Build, Builder, BuiltTunnel, Flaw, Made, build, build_some, flaw, read_tree, verify};
pub use change::{Change, changes};
pub use delivery::{DeliveredFile, Delivery, Programs, deliveries, delivery_plan, with_programs};
pub use drawing::{Drawing, Link, Point, Rect, Theme, draw, escaped};
pub use retire::{Retirement, retire};
pub use sheet::{Agreed, AgreedValue, Fact, FilledIn, Form, FormField, Handover, Refilled, Sheet, fill, fingerprint, form, sheet};
pub use steps::{Look, Steps, Symptom, steps};

// The description, and what both ends agree on.
pub use uspan_description::agreement::{Agreement, Bundle, Reason, agree};
pub use uspan_description::check::{SecretFile, Supplied, check};
pub use uspan_description::description::{
    Address, Beyond, Description, EVERYTHING, Given, Network, Opens, Pair, Pfs, Site, Tunnel, is_name, language, language_reference,
};
pub use uspan_description::sides::{End, Proofs, Side, UncarriedPair, cross_check, take_sides, uncarried};

// What stands on gateways.
pub use uspan_dialects::context::Context;
pub use uspan_dialects::delivery::{DeliveryPlan, FileKind, Interruption, PROGRAM, PlannedStep};
pub use uspan_dialects::dialect::{Remarks, Unwritable};
pub use uspan_dialects::foreign::{Foreign, foreign};
pub use uspan_dialects::network::set_up;
pub use uspan_dialects::packet_filter::{FoundRules, PacketFilter, write_rules};
pub use uspan_dialects::profile::statement;
pub use uspan_dialects::profile::{
    AskedIdentity, Behaviour, ByCertificate, DeadPeer, DefaultProposal, DefaultProposals, Family, FurtherChild, Identities, InterfaceName,
    Interrupts, KeyKinds, Line, Liveness, LogLines, LongNumbersV1, MainModeSecret, Name, Narrowing, NatDetection, Observed, OddKey,
    OfferV1, OpeningWay, OwnEnd, PfsChoice, PfsGroup, Preference, PrfChoice, Profile, Refusal, ReplayWindow, RoutesBy, Sa, SecretFor,
    SeveralPairs, Steering, TakeOut, ToStrangers, TransportMode, UnsaidIdentity, UnsaidProposalsV1, WithIkeSa,
};
pub use uspan_dialects::secrecy::{covered, discreet};
pub use uspan_dialects::{dialect, routing};

// Whether two gateways fit.
pub use uspan_judge::actor::{Actor, ReadGateway};
pub use uspan_judge::compare::{ComparedPair, ComparedParameter, Comparison, Gravity, Shown, compare_ends, compare_same};
pub use uspan_judge::rehearse::{
    Cause, Cure, Doubt, ExchangeType, Message, Notify, OpenedChild, Payload, Rehearsal, RehearsalFailure, RehearsalVerdict, Rehearsals,
    Stage, Step, outcome_only, rehearse,
};
pub use uspan_judge::walk::{Aspect, Flow, Hop, KnownNetwork, Leg, Spot, Walk, Walker, walk};

// The hub model, and what everything speaks of it in.
pub use uspan_model::duration::{duration_words, parse_duration};
pub use uspan_model::finding::{CATALOGUE, Finding, Rule, Severity, any_stops, finding_reference, in_reading_order, nearest, rule};
pub use uspan_model::gateway::{
    Action, Bearing, BgpSession, Certification, Child, Connection, Dscp, Encapsulation, Endpoint, Exchange, Filter, FilterForm, FilterRule,
    GRE, Gateway, Hook, Identity, Ike, IkeVersion, InterfaceKind, JoinedFile, KeyPair, Keying, KnownAddresses, Lifetime, Method, Mode,
    NatRule, NatTarget, OnDeadPeer, Opening, Origin, OwnAddress, Packet, PacketAt, PassedInterface, Passing, PinnedKey, Ports, Proposal,
    Protection, Protocol, ReadAt, Remainder, Route, RoutingTable, Ruleset, SERVICES, SegmentLimit, Setting, SharedSecret, Test, Through,
    Traffic, Transport, Tree, TreeFile, TunnelInterface, Unmodelled, Verdict, What, service, service_names, usual_ports,
};
pub use uspan_model::key::{Certificate, KeyFile, KeyKind, LAB_ORGANISATION, PublicKey};
pub use uspan_model::origins::{Origins, origins};
pub use uspan_model::parameter::{Effect, Parameter};
pub use uspan_model::secret::Secret;
pub use uspan_model::source::{COVERED, Located, Place, Position, Source, Span, is_plain, lines_shown, lines_written_out, misleads, shown};
pub use uspan_model::subject::{MAIL, Subject};
pub use uspan_model::trade::{Notification, TradeWord, notification, notifications, trade_reference, trade_word};
pub use uspan_model::{algorithm, effort};

/// Rules by name, for the command line's own findings.
pub mod rules {
    pub use uspan_model::finding::{
        CHANGED_BY_HAND, DEVICE_FILE_MISSING, FOREIGN_FILE, LAB_LACKS_KERNEL, LAB_LACKS_PROGRAM, LAB_NEEDS_ROOT, NOT_A_FOLDER, NOT_UTF8,
        UNREADABLE_MANIFEST,
    };
}
