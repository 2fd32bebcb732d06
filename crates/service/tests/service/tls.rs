//! The service's own TLS: certificates from files, taken up again when they change.

use rcgen::{CertifiedKey, generate_simple_self_signed};
use std::io::Write;
use std::net::TcpStream;
use std::path::Path;
use zesty_client::Client;
use zesty_service::TlsFiles;
use zesty_testing::*;

/// A new certificate for this machine, in place of what the files held; returns it as PEM.
fn write(files: &TlsFiles) -> String {
    let CertifiedKey { cert, signing_key } =
        generate_simple_self_signed(["127.0.0.1".to_owned(), "localhost".to_owned()]).unwrap();
    std::fs::write(&files.certificate, cert.pem()).unwrap();
    std::fs::write(&files.key, signing_key.serialize_pem()).unwrap();
    cert.pem()
}

fn trusting(r: &Running, pem: &str) -> Client {
    Client::trusting(&r.url, &r.key, pem.as_bytes()).unwrap()
}

#[tokio::test(flavor = "multi_thread")]
async fn a_certificate_is_served_and_a_renewed_one_taken_up_without_a_restart() {
    let folder = tempfile::tempdir().unwrap();
    let data = folder.path().to_owned();
    let files = TlsFiles { certificate: data.join("chain.pem"), key: data.join("key.pem") };
    let first = write(&files);
    let database = tokio::task::spawn_blocking(zesty_local::scratch::database).await.unwrap();
    let mut config = config(&database, &data.join("data"));
    config.tls = Some(files.clone());
    let r = launch_as(config, Some(folder), String::new()).await;
    let client = trusting(&r, &first);
    client.service().await.unwrap();
    assert!(
        Client::new(client.url(), &r.key).service().await.is_err(),
        "who does not know the certificate refuses it"
    );
    // Plain HTTP, silence and rubbish on this port harm nobody.
    let address = r.url.strip_prefix("https://").unwrap().to_owned();
    let mut plain = TcpStream::connect(&address).unwrap();
    plain.write_all(b"GET /api/service HTTP/1.1\r\nhost: x\r\n\r\n").unwrap();
    let _silent: Vec<TcpStream> = (0..50).map(|_| TcpStream::connect(&address).unwrap()).collect();
    client.service().await.unwrap();
    // Cookies go through TLS alone.
    let link = client.sign_in_link().await.unwrap();
    let path = link.strip_prefix(client.url()).unwrap().to_owned();
    let signed_in = client.request(reqwest::Method::GET, &path).send().await.unwrap();
    assert!(signed_in.headers()["set-cookie"].to_str().unwrap().contains("; Secure"));

    // A half-written file changes nothing; a whole one is taken up.
    std::fs::write(&files.certificate, "-----BEGIN CERTIFICATE-----\nhalf").unwrap();
    trusting(&r, &first).service().await.unwrap();
    let second = write(&files);
    eventually("the new certificate is served", async || trusting(&r, &second).service().await.is_ok()).await;
    assert!(trusting(&r, &first).service().await.is_err());
}

#[test]
fn files_that_do_not_go_together_are_told() {
    let folder = tempfile::tempdir().unwrap();
    let at = |name: &str| folder.path().join(name);
    let (a, b) = (
        TlsFiles { certificate: at("a.pem"), key: at("a.key") },
        TlsFiles { certificate: at("b.pem"), key: at("b.key") },
    );
    write(&a);
    write(&b);
    assert!(a.read().is_ok());
    let told = |certificate: &Path, key: &Path| {
        TlsFiles { certificate: certificate.into(), key: key.into() }.read().unwrap_err()
    };
    assert!(told(&a.certificate, &b.key).contains("b.key: it does not go with the certificate"));
    assert!(told(&a.key, &a.key).contains("a.key: no certificates in PEM"));
    assert!(told(&a.certificate, &a.certificate).contains("a.pem: no private key in PEM"));
    assert!(told(&at("none"), &a.key).contains("none: "));
}
