//! What goes over the wire.

use std::fmt;

/// Kinds of exchanges (RFC 7296 section 3.1, RFC 2408 section 3.1, RFC 2409 section 5).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum Exchange {
    /// Proposals and keys for the IKE SA.
    IkeSaInit,
    /// Identities, proofs and a first Child SA.
    IkeAuth,
    /// More Child SAs, and new keys.
    CreateChildSa,
    /// Notifications.
    Informational,
    /// IKEv1: six messages, identities protected.
    MainMode,
    /// IKEv1: three messages.
    AggressiveMode,
    /// IKEv1: a pair of SAs for ESP.
    QuickMode,
}

impl Exchange {
    /// As the registries and the RFCs call it.
    pub fn word(self) -> &'static str {
        match self {
            Exchange::IkeSaInit => "IKE_SA_INIT",
            Exchange::IkeAuth => "IKE_AUTH",
            Exchange::CreateChildSa => "CREATE_CHILD_SA",
            Exchange::Informational => "INFORMATIONAL",
            Exchange::MainMode => "main mode",
            Exchange::AggressiveMode => "aggressive mode",
            Exchange::QuickMode => "quick mode",
        }
    }
}

/// An error notification (IANA IKEv2 Notify Message Types, ISAKMP Notify Message Types).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub struct Notify {
    /// Its name.
    pub name: &'static str,
    /// Its number.
    pub number: u16,
}

impl Notify {
    pub(super) const NO_PROPOSAL_CHOSEN: Notify = Notify { name: "NO_PROPOSAL_CHOSEN", number: 14 };
    pub(super) const INVALID_KE_PAYLOAD: Notify = Notify { name: "INVALID_KE_PAYLOAD", number: 17 };
    pub(super) const AUTHENTICATION_FAILED: Notify = Notify { name: "AUTHENTICATION_FAILED", number: 24 };
    pub(super) const TS_UNACCEPTABLE: Notify = Notify { name: "TS_UNACCEPTABLE", number: 38 };
    pub(super) const V1_INVALID_ID: Notify = Notify { name: "INVALID-ID-INFORMATION", number: 18 };
    pub(super) const V1_NO_PROPOSAL: Notify = Notify { name: "NO-PROPOSAL-CHOSEN", number: 14 };
    pub(super) const V1_AUTHENTICATION: Notify = Notify { name: "AUTHENTICATION-FAILED", number: 24 };
    pub(super) const V1_MALFORMED: Notify = Notify { name: "PAYLOAD-MALFORMED", number: 16 };
}

impl fmt::Display for Notify {
    fn fmt(&self, f: &mut fmt::Formatter<'_>) -> fmt::Result {
        f.write_str(self.name)
    }
}

/// A part of a message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Payload {
    /// As the RFCs write it: `SA`, `KE`, `IDi`, `N(…)`.
    pub name: String,
    /// What it says, in words; may be empty.
    pub says: String,
}

/// A message.
#[derive(Clone, Debug, PartialEq, Eq)]
pub struct Message {
    /// The end that sends it.
    pub from: usize,
    /// Of which exchange.
    pub exchange: Exchange,
    /// Its message ID; nothing in IKEv1, where it is a random number.
    pub id: Option<u32>,
    /// Whether it answers.
    pub reply: bool,
    /// What is in it.
    pub payloads: Vec<Payload>,
    /// The error that it carries.
    pub refusal: Option<Notify>,
    /// Whether it arrives.
    pub arrives: bool,
    /// Where it is defined.
    pub source: &'static str,
}

impl Message {
    pub(super) fn request(from: usize, exchange: Exchange, id: u32, source: &'static str) -> Message {
        Message { from, exchange, id: Some(id), reply: false, payloads: Vec::new(), refusal: None, arrives: true, source }
    }

    pub(super) fn reply(from: usize, exchange: Exchange, id: u32, source: &'static str) -> Message {
        Message { reply: true, ..Message::request(from, exchange, id, source) }
    }

    /// One of IKEv1, which knows no requests and replies.
    pub(super) fn old(from: usize, exchange: Exchange, source: &'static str) -> Message {
        Message { id: None, ..Message::request(from, exchange, 0, source) }
    }

    /// With one more payload.
    pub(super) fn with(mut self, name: impl Into<String>, says: impl Into<String>) -> Message {
        self.payloads.push(Payload { name: name.into(), says: says.into() });
        self
    }

    /// With an error.
    pub(super) fn refusing(mut self, notify: Notify, says: impl Into<String>) -> Message {
        self.refusal = Some(notify);
        self.with(format!("N({notify})"), says)
    }
}

/// What happens.
#[derive(Clone, Debug, PartialEq, Eq)]
pub enum Step {
    /// A message is sent.
    Message(Message),
    /// An end comes to a conclusion.
    Thought {
        /// Which end.
        end: usize,
        /// Which conclusion.
        text: String,
    },
}

impl Step {
    /// The error that a message carries.
    pub(super) fn refusal(&self) -> Option<Notify> {
        match self {
            Step::Message(message) => message.refusal,
            Step::Thought { .. } => None,
        }
    }
}
