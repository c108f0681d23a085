//! What goes over the wire.

use std::fmt;

/// Kinds of exchanges (RFC 7296 section 3.1, RFC 2408 section 3.1, RFC 2409 section 5).
#[derive(Clone, Copy, Debug, PartialEq, Eq)]
pub enum ExchangeType {
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

impl ExchangeType {
    /// As the registries and the RFCs call it.
    pub fn word(self) -> &'static str {
        match self {
            ExchangeType::IkeSaInit => "IKE_SA_INIT",
            ExchangeType::IkeAuth => "IKE_AUTH",
            ExchangeType::CreateChildSa => "CREATE_CHILD_SA",
            ExchangeType::Informational => "INFORMATIONAL",
            ExchangeType::MainMode => "main mode",
            ExchangeType::AggressiveMode => "aggressive mode",
            ExchangeType::QuickMode => "quick mode",
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
    pub exchange: ExchangeType,
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

/// A message that is being put together. What it says is spelled out only where somebody reads it: of very many rehearsals all
/// that counts is whether they fail.
pub(super) struct MessageDraft {
    message: Message,
    read: bool,
}

impl MessageDraft {
    pub(super) fn request(read: bool, from: usize, exchange: ExchangeType, id: u32, source: &'static str) -> MessageDraft {
        let message = Message { from, exchange, id: Some(id), reply: false, payloads: Vec::new(), refusal: None, arrives: true, source };
        MessageDraft { message, read }
    }

    /// A responder.
    pub(super) fn answering(mut self) -> MessageDraft {
        self.message.reply = true;
        self
    }

    /// One of IKEv1, which knows no requests and replies.
    pub(super) fn without_id(mut self) -> MessageDraft {
        self.message.id = None;
        self
    }

    /// With one more payload.
    pub(super) fn with<S: Into<String>>(mut self, name: &str, says: impl FnOnce() -> S) -> MessageDraft {
        if self.read {
            self.message.payloads.push(Payload { name: name.to_owned(), says: says().into() });
        }
        self
    }

    /// With a payload of which nothing needs to be said.
    pub(super) fn plain(self, name: &str) -> MessageDraft {
        self.with(name, String::new)
    }

    /// With an error, and nothing to say of it.
    pub(super) fn refusing(self, notify: Notify) -> MessageDraft {
        self.refusing_with(notify, String::new)
    }

    /// With an error.
    pub(super) fn refusing_with(mut self, notify: Notify, says: impl FnOnce() -> String) -> MessageDraft {
        self.message.refusal = Some(notify);
        if self.read {
            self.message.payloads.push(Payload { name: format!("N({notify})"), says: says() });
        }
        self
    }

    /// With no payloads.
    pub(super) fn bare(mut self) -> MessageDraft {
        self.message.payloads.clear();
        self
    }

    /// One that arrives, or not.
    pub(super) fn arriving(mut self, arrives: bool) -> MessageDraft {
        self.message.arrives = arrives;
        self
    }

    /// As it is sent.
    pub(super) fn sent(self) -> Message {
        self.message
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
