//! Who believes whom.

use super::{Cause, Cure, Play, Stage};
use crate::fits::keys::{KeyFit, key_fit};
use uspan_dialects::profile::{
    AskedIdentity, ByCertificate, Line, OF_CERTIFICATE, OWN_ADDRESS, SecretFor, ShownCertificate, SubjectOrder, UnsaidIdentity,
};
use uspan_model::gateway::{Connection, Identity, Method, Origin};
use uspan_model::key::Certificate;
use uspan_model::parameter::Parameter;
use uspan_model::secret::Secret;

/// Why an end is not believed, and what to do.
pub(super) struct Disbelief {
    pub(super) cause: Cause,
    pub(super) reason: String,
    pub(super) cures: Vec<Cure>,
}

impl<'a> Play<'a> {
    /// Whether an end has what it proves itself with; where not, it ends here.
    pub(super) fn can_prove(&mut self, end: usize, connection: &Connection) -> bool {
        let gateway = self.actors[end].reading.gateway;
        match connection.ike().local_method.value {
            Method::SharedSecret if self.secret(end, connection).is_none() => {
                let ids =
                    format!("{} and {}", connection.ike().local_identity.value.words(), connection.ike().remote_identity.value.words());
                let reason = format!("{} has no secret for {ids}.", self.name(end));
                let cures = vec![
                    Cure { end, place: None, spelling: None, what: format!("add a secret for {ids}") },
                    self.cure(end, &connection.ike().local_identity, "or name the identities that a secret is for"),
                ];
                self.fail((Stage::Authentication, vec![Parameter::SharedSecret.into()]), reason, self.told(end, Line::NoSecret), cures);
                false
            }
            Method::PublicKey if gateway.own_key(connection).is_none() => {
                let own = connection.ike().local_identity.value.words();
                let reason = format!("{} has no key for {own}.", self.name(end));
                let cures = vec![self.cure(end, &connection.ike().local_identity, "name an identity that there is a key for")];
                self.fail((Stage::Authentication, vec![Cause::at(Parameter::Key, end)]), reason, self.told(end, Line::NoKey), cures);
                false
            }
            _ => true,
        }
    }

    /// The secret that an end takes for a connection.
    pub(super) fn secret(&self, end: usize, connection: &Connection) -> Option<&'a Secret> {
        let gateway = self.actors[end].reading.gateway;
        gateway.secret_for(connection).or_else(|| {
            // Who takes anybody looks for the secret of whoever it is.
            let mut known = connection.clone();
            known.ike_mut().local_identity.value = self.shown(end, connection);
            if known.ike().remote_identity.value == Identity::Anybody {
                known.ike_mut().remote_identity.value = self.shown(1 - end, self.connections[1 - end]);
            }
            let by_one = || gateway.secret_for_either(&known).filter(|_| self.behaviour(end).secret_for == SecretFor::Either);
            gateway.secret_for(&known).or_else(by_one)
        })
    }

    /// Why unequal secrets are unequal, and what to do.
    pub(super) fn unequal_secrets(&self) -> Option<(String, Vec<Cure>)> {
        let cure = |end: usize| Cure { end, place: None, spelling: None, what: "put the same bytes on both ends".to_owned() };
        let secrets = [0, 1].map(|end| self.secret(end, self.connections[end]));
        (secrets[0] != secrets[1]).then(|| ("The secrets of the two ends are not the same bytes.".to_owned(), vec![cure(0), cure(1)]))
    }

    /// The identity that an end shows with a connection.
    pub(super) fn shown(&self, end: usize, connection: &Connection) -> Identity {
        let unsaid = connection.ike().local_identity.origin == Origin::Default
            || matches!(connection.ike().local_identity.value, Identity::Implied(_));
        if unsaid
            && end == self.responder()
            && self.behaviour(end).unsaid_identity == UnsaidIdentity::OfCertificateOrAsked
            && connection.ike().local_method.value == Method::SharedSecret
            && let Some(asked) = self.asked_identity()
        {
            return asked.clone();
        }
        match (&connection.ike().local_identity.value, self.places(end).own) {
            (Identity::Implied(OWN_ADDRESS), Some(own)) => Identity::Address(own),
            (said, _) => said.clone(),
        }
    }

    /// The identity that the initiator asks for, if it asks for one.
    pub(super) fn asked_identity(&self) -> Option<&'a Identity> {
        let expected = &self.initiating().ike().remote_identity.value;
        let names_only = self.behaviour(self.initiator).asked_identity == AskedIdentity::Ignored;
        // Who takes anybody asks for nobody.
        let is_somebody = *expected != Identity::Anybody && !takes_certificate(self.initiating());
        (is_somebody && !(names_only && matches!(expected, Identity::Address(_)))).then_some(expected)
    }

    /// Whether an end counts as the one that a connection of the other expects.
    pub(super) fn is_taken(&self, end: usize, shows: &Connection, judges: &Connection) -> bool {
        let by_certificate = self.behaviour(1 - end).by_certificate == ByCertificate::AsExpected && self.is_certified(end, shows, judges);
        self.takes(1 - end, &judges.ike().remote_identity.value, &self.shown(end, shows)) || by_certificate || takes_certificate(judges)
    }

    /// Whether an end's certificate names whom the other expects.
    fn is_certified(&self, end: usize, shows: &Connection, judges: &Connection) -> bool {
        let own = || self.actors[end].reading.gateway.own_certificate(shows);
        shows.ike().local_method.value == Method::Certificate
            && own().is_some_and(|own| self.has_name(1 - end, own, &judges.ike().remote_identity.value))
    }

    /// Whether an end that expects an identity takes a shown one for it.
    fn takes(&self, end: usize, expected: &Identity, shown: &Identity) -> bool {
        expected.takes(shown) || self.behaviour(end).subjects == SubjectOrder::Any && has_same_parts(expected, shown)
    }

    /// Whether an end finds an identity in a certificate.
    fn has_name(&self, end: usize, certificate: &Certificate, identity: &Identity) -> bool {
        let subject = || certificate.distinguished_name().map(Identity::Subject);
        let unordered = || self.behaviour(end).subjects == SubjectOrder::Any && subject().is_some_and(|own| has_same_parts(&own, identity));
        certificate.names(identity) || unordered()
    }

    /// Those of several connections whose authority issued the certificate of the initiator; all where none is of it.
    pub(super) fn of_issuer<'c>(&self, initiating: &Connection, candidates: Vec<&'c Connection>) -> Vec<&'c Connection> {
        let gateways = [self.initiator, self.responder()].map(|end| self.actors[end].reading.gateway);
        let fits = |one: &&&Connection| key_fit((gateways[0], initiating), (gateways[1], one)) != KeyFit::OfAnother;
        let signs = candidates.len() > 1 && initiating.ike().local_method.value == Method::Certificate;
        let fitting: Vec<_> = if signs { candidates.iter().filter(fits).copied().collect() } else { Vec::new() };
        if fitting.is_empty() { candidates } else { fitting }
    }

    /// What one end alone logs.
    fn told(&self, end: usize, line: Line) -> [Option<Line>; 2] {
        if end == self.initiator { [Some(line), None] } else { [None, Some(line)] }
    }

    /// Why an end is not believed by the other one, each with the connection that it uses.
    pub(super) fn disbelief(&self, end: usize, shows: &Connection, judges: &Connection) -> Option<Disbelief> {
        let other = 1 - end;
        let [shower, judge] = [end, other].map(|at| self.actors[at].reading.gateway);
        let names = [self.name(end), self.name(other)];
        let shown = self.shown(end, shows);
        // What is not said follows from the certificate, which may have several names; some look at nothing else.
        let unsaid = matches!(shown, Identity::Implied(_)) && self.behaviour(end).unsaid_identity == UnsaidIdentity::OfCertificateOrAsked;
        let counts = unsaid || self.behaviour(other).by_certificate == ByCertificate::AsExpected;
        let named = takes_certificate(judges) || counts && self.is_certified(end, shows, judges);
        if !named && !self.takes(other, &judges.ike().remote_identity.value, &shown) {
            let (is, wants) = (shown.words(), judges.ike().remote_identity.value.words());
            let cures = vec![
                self.cure(other, &judges.ike().remote_identity, format!("write {is}")),
                self.cure(end, &shows.ike().local_identity, format!("or write {wants}")),
            ];
            let reason = format!("{} says that it is {is}, {} expects {wants}.", names[0], names[1]);
            return Some(Disbelief { cause: Cause::at(Parameter::Identity, end), reason, cures });
        }
        if shows.ike().local_method != judges.ike().remote_method {
            let (has, wants) = (shows.ike().local_method.value.words(), judges.ike().remote_method.value.words());
            let cures = vec![
                self.cure(other, &judges.ike().remote_method, format!("expect {has}")),
                self.cure(end, &shows.ike().local_method, format!("or use {wants}")),
            ];
            let reason = format!("{} proves itself with {has}, {} wants {wants}.", names[0], names[1]);
            return Some(Disbelief { cause: Cause::at(Parameter::Authentication, end), reason, cures });
        }
        let at = |end: usize, what: &str| Cure { end, place: None, spelling: None, what: what.to_owned() };
        match shows.ike().local_method.value {
            Method::SharedSecret => {
                let secrets = [self.secret(end, shows), self.secret(other, judges)];
                let reason = match secrets {
                    [Some(one), Some(two)] if one == two => return None,
                    [_, None] => format!("{} has no secret for the two identities.", names[1]),
                    _ => "The secrets of the two ends are not the same bytes.".to_owned(),
                };
                let cures = vec![at(end, "put the same bytes on both ends"), at(other, "put the same bytes on both ends")];
                Some(Disbelief { cause: Parameter::SharedSecret.into(), reason, cures })
            }
            Method::PublicKey => {
                let fits = key_fit((shower, shows), (judge, judges)) == KeyFit::Believed;
                let reason = format!("{} does not have the public key that {} signs with.", names[1], names[0]);
                let cures = || vec![at(other, &format!("give it the public key of {}", names[0]))];
                (!fits).then(|| Disbelief { cause: Cause::at(Parameter::Key, end), reason, cures: cures() })
            }
            Method::Certificate => {
                if judges.ike().remote_identity.value == Identity::Anybody && self.behaviour(other).by_certificate == ByCertificate::Named {
                    let reason = format!("{} does not say who its peer is, and takes nobody's certificate then.", names[1]);
                    let cures = vec![self.cure(other, &judges.ike().remote_identity, format!("write {}", shown.words()))];
                    return Some(Disbelief { cause: Cause::at(Parameter::Identity, end), reason, cures });
                }
                // A daemon may keep its certificate in a database of its own: then nothing can be said of it.
                let own = shower.own_certificate(shows)?;
                let pinned = self.actors[other].reading.gateway.pinned_key(judges) == Some(&own.public());
                let is = &shows.ike().local_identity.value;
                let hidden = self.behaviour(end).shows == ShownCertificate::ThatNamesIt && !pinned && !self.has_name(end, own, is);
                if hidden || !named && !judges.ike().certification.any_name.value && !self.has_name(other, own, is) {
                    let cures = vec![self.cure(end, &shows.ike().local_identity, "take a name that the certificate has")];
                    let then = if hidden { ", and is not shown for that" } else { "" };
                    let reason = format!("The certificate of {} does not name {}{then}.", names[0], is.words());
                    return Some(Disbelief { cause: Cause::at(Parameter::Key, end), reason, cures });
                }
                let (reason, cures) = self.uncertified(end, shows, judges)?;
                Some(Disbelief { cause: Cause::at(Parameter::Key, end), reason, cures })
            }
        }
    }

    /// Why an end's certificate is not believed, and what to do.
    fn uncertified(&self, end: usize, shows: &Connection, judges: &Connection) -> Option<(String, Vec<Cure>)> {
        let other = 1 - end;
        let (shower, judge) = (self.name(end), self.name(other));
        let gateways = [end, other].map(|at| self.actors[at].reading.gateway);
        match key_fit((gateways[0], shows), (gateways[1], judges)) {
            KeyFit::NotIssued => {
                let what = "install the certificate of the authority that issued the peer's".to_owned();
                let cures = vec![Cure { end: other, place: None, spelling: None, what }];
                Some((format!("{judge} has no authority that issued the certificate of {shower}."), cures))
            }
            KeyFit::OfAnother => {
                let issuer = &judges.ike().certification.issuer;
                let wanted = issuer.value.as_ref().map_or_else(String::new, ToString::to_string);
                let reason = format!("{judge} takes certificates of the authority {wanted} alone, and that of {shower} is of another.");
                Some((reason, vec![self.cure(other, issuer, "name the authority that issued the peer's")]))
            }
            KeyFit::Withheld => {
                let cures = vec![self.cure(end, &shows.ike().certification.withheld, "show it")];
                Some((format!("{shower} does not show its certificate, and {judge} has not got it."), cures))
            }
            KeyFit::Believed | KeyFit::NoKey | KeyFit::NoCertificate | KeyFit::NotPinned => None,
        }
    }
}

/// Whether two identities are subjects that differ only in the order of their parts.
fn has_same_parts(one: &Identity, other: &Identity) -> bool {
    matches!((one, other), (Identity::Subject(one), Identity::Subject(other)) if one.has_parts_of(other))
}

/// Whether a connection takes for its peer whoever shows a certificate that is believed, whatever name the peer says and the certificate
/// has.
fn takes_certificate(judges: &Connection) -> bool {
    let ike = judges.ike();
    ike.remote_identity.value == Identity::Implied(OF_CERTIFICATE) && ike.remote_method.value == Method::Certificate
}
