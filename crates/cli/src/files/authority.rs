//! The lab's own authority: it lives for one run, signs a certificate for each site, and its key is forgotten.

use std::collections::{BTreeMap, BTreeSet};
use std::net::IpAddr;
use std::path::Path;

use rcgen::{
    BasicConstraints, CertificateParams, DistinguishedName, DnType, DnValue, ExtendedKeyUsagePurpose, IsCa, Issuer, KeyPair,
    KeyUsagePurpose, SanType,
};
use time::{Duration, OffsetDateTime};
use uspan_core::{Description, Identity, LAB_ORGANISATION, MAIL, Method, Site, Subject};
use zeroize::Zeroizing;

use super::{keys, single};
use crate::failure::Failure;
use crate::show::path_shown;

/// How long the lab believes in them.
const DAYS: i64 = 90;

/// Makes keys and certificates for all sites that show one, where the description says that they stand. Returns the
/// files that were written.
pub fn certify(description: &Description, folder: &Path, replace: bool) -> Result<Vec<String>, Failure> {
    let certified = description.tunnels.iter().filter(|tunnel| tunnel.method.value == Method::Certificate);
    let sites: BTreeMap<&str, &Site> =
        certified.flat_map(|tunnel| description.ends(tunnel)).map(|site| (site.name.value.as_str(), site)).collect();
    let mut files: BTreeMap<String, (Zeroizing<String>, bool)> = BTreeMap::new();
    let mut authorities: BTreeMap<String, (String, Issuer<'_, KeyPair>)> = BTreeMap::new();
    for (name, site) in sites {
        let keys = site.keys.as_ref();
        let file = |file: Option<&uspan_core::Located<String>>, key: &str| {
            file.map(|file| file.value.clone()).ok_or_else(|| Failure::Usage(format!("site `{name}` does not say `keys.{key}`")))
        };
        let certificate = file(keys.and_then(|keys| keys.certificate.as_ref()), "certificate")?;
        let issuer = file(keys.and_then(|keys| keys.issuer.as_ref()), "issuer")?;
        let private = file(keys.and_then(|keys| keys.private.as_ref()), "private")?;
        if !authorities.contains_key(&issuer) {
            let made = authority(authorities.len() + 1)?;
            authorities.insert(issuer.clone(), made);
        }
        let (authority_pem, authority) = &authorities[&issuer];
        let key = keys::generate()?;
        let pem = leaf(site)?.signed_by(&key, authority).map_err(Failure::Key)?.pem();
        files.insert(issuer, (Zeroizing::new(authority_pem.clone()), false));
        files.insert(certificate, (Zeroizing::new(pem), false));
        files.insert(private, (keys::private_pem(&key), true));
    }
    if files.is_empty() {
        return Err(Failure::Usage("no tunnel of the description says `authentication = \"certificates\"`".to_owned()));
    }
    let there: BTreeSet<_> = files.keys().filter(|file| folder.join(file).exists()).collect();
    if let (false, Some(file)) = (replace, there.first()) {
        return Err(Failure::Usage(format!("`{}` is there already; --replace overwrites all of them", path_shown(&folder.join(file)))));
    }
    for (file, (text, is_secret)) in &files {
        let (path, text) = (folder.join(file), Zeroizing::new(text.replace("\r\n", "\n")));
        match is_secret {
            true => single::secret(&path, text.trim_end().as_bytes(), replace)?,
            false => single::text(&path, &text, replace)?,
        }
    }
    Ok(files.into_keys().collect())
}

fn authority(number: usize) -> Result<(String, Issuer<'static, KeyPair>), Failure> {
    let mut params = CertificateParams::default();
    params.distinguished_name =
        named(&[(DnType::OrganizationName, LAB_ORGANISATION), (DnType::CommonName, &format!("lab authority {number}"))]);
    params.is_ca = IsCa::Ca(BasicConstraints::Unconstrained);
    params.key_usages = vec![KeyUsagePurpose::KeyCertSign, KeyUsagePurpose::CrlSign];
    for_a_while(&mut params);
    let key = keys::generate()?;
    let pem = params.self_signed(&key).map_err(Failure::Key)?.pem();
    Ok((pem, Issuer::new(params, key)))
}

fn named(parts: &[(DnType, &str)]) -> DistinguishedName {
    let mut name = DistinguishedName::new();
    parts.iter().for_each(|(kind, value)| name.push(kind.clone(), *value));
    name
}

/// A subject as it stands in a certificate.
fn distinguished_name(subject: &Subject) -> Result<DistinguishedName, Failure> {
    let mut name = DistinguishedName::new();
    for (id, value) in subject.attributes() {
        let kind = DnType::from_oid(&id);
        match id.iter().map(u64::to_string).collect::<Vec<_>>().join(".") == MAIL {
            true => name.push(kind, DnValue::Ia5String(value.try_into().map_err(Failure::Key)?)),
            false => name.push(kind, value),
        }
    }
    // The library keeps one part of each kind.
    let kinds: BTreeSet<_> = subject.attributes().map(|(id, _)| id).collect();
    if kinds.len() < subject.attributes().count() {
        return Err(Failure::Usage(format!("the lab's authority writes no subject with two parts of one kind, as in `{subject}`")));
    }
    Ok(name)
}

fn leaf(site: &Site) -> Result<CertificateParams, Failure> {
    let identity = site.identity();
    let mut params = CertificateParams::default();
    let text = |name: &str| name.to_owned().try_into().map_err(Failure::Key);
    let alternative = match &identity {
        Identity::Address(address) => Some(SanType::IpAddress(IpAddr::clone(address))),
        Identity::Name(name) => Some(SanType::DnsName(text(name)?)),
        Identity::Mail(name) => Some(SanType::Rfc822Name(text(name)?)),
        Identity::Subject(_) => None,
        Identity::Free(_) | Identity::Anybody | Identity::Implied(_) => {
            return Err(Failure::Usage(format!("the identity `{identity}` of site `{}` cannot stand in a certificate", site.name.value)));
        }
    };
    params.distinguished_name = match &identity {
        Identity::Subject(subject) => distinguished_name(subject)?,
        _ => named(&[(DnType::OrganizationName, LAB_ORGANISATION), (DnType::CommonName, &site.name.value)]),
    };
    params.subject_alt_names = alternative.into_iter().collect();
    params.key_usages = vec![KeyUsagePurpose::DigitalSignature];
    params.extended_key_usages = vec![ExtendedKeyUsagePurpose::ServerAuth, ExtendedKeyUsagePurpose::ClientAuth];
    params.use_authority_key_identifier_extension = true;
    for_a_while(&mut params);
    Ok(params)
}

fn for_a_while(params: &mut CertificateParams) {
    let now = OffsetDateTime::now_utc();
    params.not_before = now - Duration::days(1);
    params.not_after = now + Duration::days(DAYS);
}
