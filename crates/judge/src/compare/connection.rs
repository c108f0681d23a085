//! The IKE SA: addresses, identities, authentication, proposals, times.

use super::offers;
use super::{Assessment, ComparedEnd, Comparing, plain};
use crate::fits::keys::{KeyFit, key_fit};
use uspan_model::duration::duration_words;
use uspan_model::gateway::{
    Bearing, Connection, Encapsulation, Endpoint, Exchange, Identity, IkeVersion, Method, Opening, Proposal, Setting, is_private,
};
use uspan_model::parameter::Parameter;

impl Comparing<'_> {
    pub(super) fn connection(&mut self) {
        self.exchange();
        self.addresses();
        self.identities();
        self.authentication();
        self.proposals();
        self.times();
        self.opening();
    }

    fn exchange(&mut self) {
        let words = |version: &IkeVersion| version.words().to_owned();
        self.each(
            Parameter::KeyExchange,
            |c| c.ike().exchange.clone().map(Exchange::version),
            words,
            |one, other| {
                Assessment::unless(one == other, || {
                    Assessment::fatal(
                        "The first message is not answered, or answered with INVALID_MAJOR_VERSION (RFC 7296 section 2.5): no IKE SA.",
                        "Say the same version at both ends: IKEv2 if both can.",
                    )
                })
            },
        );
        if self.sides.iter().all(|side| side.connection.version() == IkeVersion::V1) {
            let words = |exchange: &Exchange| if *exchange == Exchange::V1Aggressive { "aggressive mode" } else { "main mode" }.to_owned();
            let placed = |c: &Connection| match &c.ike().mode.0 {
                Some(place) => Setting::stated(c.ike().exchange.value, place.clone()),
                None => Setting::default_of(c.ike().exchange.value),
            };
            self.each(Parameter::ExchangeMode, placed, words, |one, other| {
                Assessment::unless(one == other, || {
                    Assessment::fatal("The first message is refused: no IKE SA.", "Choose main mode at both ends, if both can.")
                })
            });
        }
    }

    fn addresses(&mut self) {
        self.mutual(Parameter::Address, [|c| &c.local, |c| &c.remote], ToString::to_string, |one, other| {
            Assessment::unless(one == other, || match (one, other) {
                (Endpoint::At(first), Endpoint::At(second)) => {
                    if is_private(*first) != is_private(*second) {
                        return Assessment::compatible("One of the two is private: fine where a NAT device translates it to the other.");
                    }
                    Assessment::fatal(
                        "Packets go to, or come from, an address that the other end does not expect: no answer, or NO_PROPOSAL_CHOSEN for want of a connection.",
                        "Write the address that the gateway really has on the internet at both ends.",
                    )
                }
                (Endpoint::Named(_), _) | (_, Endpoint::Named(_)) => {
                    Assessment::compatible("Fine as long as the DNS name stands for that address.")
                }
                _ => match one.meets(other) {
                    Some(true) => Assessment::compatible("Fine: the one that is open takes whatever the other has."),
                    None => Assessment::compatible("Fine as long as the DNS name stands for one of the addresses."),
                    Some(false) => Assessment::fatal(
                        "The address of the one is none of those that the other takes: no answer, or NO_PROPOSAL_CHOSEN for want of a connection.",
                        "Write the address that the gateway really has on the internet at both ends.",
                    ),
                },
            })
        });
    }

    fn identities(&mut self) {
        let version = self.sides[0].connection.version();
        self.mutual(Parameter::Identity, [|c| &c.ike().local_identity, |c| &c.ike().remote_identity], Identity::words, |one, other| {
            Assessment::unless(one == other, || {
                if [one, other].contains(&&Identity::Anybody) {
                    return Assessment::compatible(
                        "One end takes anybody who can prove it: fine, as long as no other peer has the same secret.",
                    );
                }
                let kinds = one.to_string() == other.to_string();
                let more = match (one, other) {
                    _ if kinds => " The text is the same, the kind is not: the wire carries the kind too (RFC 7296 section 3.5).",
                    (Identity::Address(_), Identity::Address(_)) => {
                        " Two addresses: often the one inside and the one outside of a NAT device; a name at both ends avoids that."
                    }
                    _ => "",
                };
                let answer = match version {
                    IkeVersion::V2 => "The peer answers AUTHENTICATION_FAILED: an IKE SA that dies at once.",
                    IkeVersion::V1 => "The peer answers INVALID_ID_INFORMATION, or finds no secret: no IKE SA.",
                };
                Assessment::fatal(format!("{answer}{more}"), "What one end calls itself must be what the other expects, in kind and text.")
            })
        });
    }

    fn authentication(&mut self) {
        self.mutual(
            Parameter::Authentication,
            [|c| &c.ike().local_method, |c| &c.ike().remote_method],
            |method: &Method| method.words().to_owned(),
            |one, other| {
                Assessment::unless(one == other, || {
                    Assessment::fatal(
                        "The peer answers AUTHENTICATION_FAILED: no IKE SA.",
                        "Choose the same way of proving it at both ends.",
                    )
                })
            },
        );
        let [left, right] = self.sides;
        let shares = |c: &Connection| c.ike().local_method.value == Method::SharedSecret;
        if shares(left.connection) || shares(right.connection) {
            let secrets = self.sides.map(|side| side.reading.gateway.secret_for(side.connection));
            let same = secrets[0].is_some() && secrets[0] == secrets[1];
            let words = |end: usize| match (secrets[end], same) {
                (None, _) => "not there",
                (Some(_), true) => "the same bytes",
                (Some(_), false) => "other bytes",
            };
            let verdict = Assessment::unless(same, || match secrets {
                [Some(_), Some(_)] => Assessment::fatal(
                    "The peer answers AUTHENTICATION_FAILED (in IKEv1 main mode its first encrypted message cannot be read): no IKE SA.",
                    "Put the same bytes on both ends; a text in quotes, `0x` and `0s` mean other bytes than they look like.",
                ),
                // It may stand where nobody has looked.
                _ if self
                    .sides
                    .iter()
                    .zip(&secrets)
                    .any(|(side, secret)| secret.is_none() && side.connection.remainder.leaves_open(Bearing::Authentication)) =>
                {
                    Assessment::compatible("The secret is not among the files, so that nothing can be said of it.")
                }
                _ => Assessment::fatal(
                    "Where no secret is found for the two identities, nothing can be proven: AUTHENTICATION_FAILED.",
                    "Add the secret for both identities of the connection.",
                ),
            });
            self.add(Parameter::SharedSecret, [plain(words(0)), plain(words(1))], verdict);
        }
        match self.crossed {
            true => self.keys(),
            false => self.same_keys(),
        }
    }

    /// Keys and authorities of one end, as they stand and as they should.
    fn same_keys(&mut self) {
        let [stands, should] = self.sides;
        let methods = [should.connection.ike().local_method.value, should.connection.ike().remote_method.value];
        if methods == [Method::SharedSecret; 2] {
            return;
        }
        let of = |side: &ComparedEnd<'_>| {
            let gateway = side.reading.gateway;
            let mut authorities = gateway.authorities.clone();
            authorities.sort();
            let own = (gateway.own_key(side.connection).cloned(), gateway.own_certificate(side.connection).cloned());
            (own, gateway.pinned_key(side.connection).cloned(), authorities)
        };
        let (now, wanted) = (of(&stands), of(&should));
        let words = |same: bool| if same { "the same" } else { "another, or none" };
        for (what, name, same) in [
            (Parameter::Key, "own key", now.0 == wanted.0),
            (Parameter::Belief, Parameter::Belief.words(), (now.1, now.2) == (wanted.1, wanted.2)),
        ] {
            let verdict = Assessment::unless(same, || {
                Assessment::fatal(
                    "One end does not believe the other: AUTHENTICATION_FAILED.",
                    "Install the keys and certificates of the description anew.",
                )
            });
            self.add_of((what, None, name.to_owned()), [plain(words(same)), plain("as described")], verdict);
        }
    }

    /// Keys that one end signs with and the other expects.
    fn keys(&mut self) {
        for (signer, checker) in [(0, 1), (1, 0)] {
            let [from, by] = [signer, checker].map(|end| self.sides[end]);
            if from.connection.ike().local_method.value == Method::SharedSecret {
                continue;
            }
            let fit = key_fit((from.reading.gateway, from.connection), (by.reading.gateway, by.connection));
            let (signs, believes) = (!matches!(fit, KeyFit::NoKey | KeyFit::NoCertificate), fit == KeyFit::Believed);
            let mut values = [plain(""), plain("")];
            values[signer] = plain(if signs { "there" } else { "not there" });
            values[checker] = plain(if believes { "believed" } else { "not believed" });
            let verdict = Assessment::unless(believes, || {
                if !signs {
                    // A daemon may keep it in a database of its own.
                    return Assessment::compatible("Its key or certificate is not among the files, so that nothing can be said of it.");
                }
                Assessment::fatal(
                    "The signature, or the authority behind the certificate, is not believed: AUTHENTICATION_FAILED.",
                    "Give each end the public key of the other, or the certificate of the authority that issued the other's.",
                )
            });
            self.add_of((Parameter::Key, Some(signer), format!("key of {}", from.reading.name)), values, verdict);
        }
    }

    fn proposals(&mut self) {
        let names = self.names().map(str::to_owned);
        let words = |list: &Vec<Proposal>| offers::words(list);
        self.each(
            Parameter::IkeProposals,
            |c| c.ike().proposals.clone(),
            words,
            |one, other| {
                Assessment::unless(one == other && !one.is_empty(), || offers::judge(&names, one, other, "NO_PROPOSAL_CHOSEN: no IKE SA"))
            },
        );
    }

    fn times(&mut self) {
        let version = self.sides[0].connection.version();
        self.each(
            Parameter::IkeLifetime,
            |c| c.ike().lifetime.clone(),
            |life| duration_words(life.hard),
            |one, other| Assessment::unless(one == other, || Assessment::compatible(lifetimes(version))),
        );
        let words = |interval: &Option<std::time::Duration>| interval.map_or("off".to_owned(), duration_words);
        self.each(
            Parameter::Liveness,
            |c| c.ike().liveness.clone(),
            words,
            |one, other| Assessment::unless(one == other, || Assessment::compatible("Each end watches its peer for itself.")),
        );
        let words = |told: &Encapsulation| match told {
            Encapsulation::Automatic => "where a NAT device is found".to_owned(),
            Encapsulation::Forced => "always".to_owned(),
            Encapsulation::Off => "never".to_owned(),
        };
        self.each(
            Parameter::Encapsulation,
            |c| c.encapsulation.clone(),
            words,
            |one, other| {
                Assessment::unless(one == other, || match (one, other) {
                    (Encapsulation::Off, Encapsulation::Forced) | (Encapsulation::Forced, Encapsulation::Off) => Assessment::fatal(
                        "One end sends ESP in UDP, the other takes none: SAs come up, and nothing crosses.",
                        "Leave it automatic at both ends.",
                    ),
                    _ => Assessment::compatible("One end pretends a NAT device, or denies one; the other finds out."),
                })
            },
        );
    }

    fn opening(&mut self) {
        let opens = |c: &Connection| c.children.first().map_or(Setting::default_of(Opening::WAIT), |child| child.opening.clone());
        let words = |opening: &Opening| opening.words().to_owned();
        let crossed = self.crossed;
        self.each(Parameter::Opening, opens, words, |one, other| match (one, other) {
            (one, other) if crossed && !one.opens() && !other.opens() => {
                Assessment::compatible("Neither end opens the tunnel: it stays down until somebody does by hand.")
            }
            (one, other) if crossed && one.start && other.start => {
                Assessment::compatible("Both open at the same moment, and may end up with two SAs, or with halves of two.")
            }
            // Who opens and the responder is for each end to say.
            _ if crossed => Assessment::equal(),
            (one, other) => Assessment::unless(one == other, || match !one.trap && other.trap {
                true => Assessment::compatible(
                    "Nothing holds packets back while the tunnel is down: they leave in clear unless a filter stops them.",
                ),
                false => Assessment::compatible("Another end opens it, or at another time."),
            }),
        });
    }
}

/// What unequal lifetimes do.
pub(super) fn lifetimes(version: IkeVersion) -> &'static str {
    match version {
        IkeVersion::V2 => "IKEv2 does not negotiate it: the end with the shorter one rekeys first.",
        IkeVersion::V1 => "IKEv1 negotiates it: some responders take the shorter one, some refuse a longer one than their own.",
    }
}
