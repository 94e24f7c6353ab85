//! Authorities and certificates, with the openssl and GnuTLS command lines as judges.

use crate::common::{Came, World, wait};

/// An estate with a gateway, an authority, and mara with a phone.
fn skerry(key: &str) -> World {
    let world = gateway();
    world.run(&format!("authority create --key {key}")).is(0);
    world
}

/// The same without an authority.
fn gateway() -> World {
    let mut world = World::estate();
    world.start_lab("--processes");
    world.run("site add harbour --network 10.44.0.0/22 --time-zone Europe/Oslo").is(0);
    world.run("host add harbour --site harbour --kind cloud --via lab").is(0);
    world.run("gateway create harbour --host harbour --dialled gangway.skerry.example").is(0);
    world.run("group add crew --lifetime 90d").is(0);
    world.run("user add mara --group crew --mail mara@skerry.example").is(0);
    world.run("device add mara/phone").is(0);
    world
}

fn issue(world: &World) {
    world.run("credential issue mara/phone --kind certificate").is(0);
    world.run("credential handover mara/phone --as pem --to phone --yes").is(0);
    public_parts(world);
}

/// root.pem, chain.pem (issuing and root), the issuing authority's list.
fn public_parts(world: &World) {
    for old in ["root.pem", "chain.pem", "issuing.crl", "root.crl"] {
        let _ = std::fs::remove_file(world.path(old));
    }
    world.run("authority export root --to root.pem").is(0);
    world.run("authority export issuing --to chain.pem").is(0);
    world.run("authority export issuing --list --to issuing.crl").is(0);
    world.run("authority export root --list --to root.crl").is(0);
    world.judge("for l in issuing root; do openssl crl -inform DER -in $l.crl -out $l.crl.pem || exit 1; done; cat issuing.crl.pem root.crl.pem > lists.pem").is(0);
}

const VERIFY: &str = "openssl verify -x509_strict -CAfile root.pem -untrusted chain.pem";

/// A verifier from elsewhere, in Python: what it says of a certificate.
pub fn third_judge(world: &World, arguments: &str) -> Came {
    let tests = concat!(env!("CARGO_MANIFEST_DIR"), "/tests");
    let packages = concat!(env!("CARGO_MANIFEST_DIR"), "/../../target/test-needs/python");
    world.judge(&format!("PYTHONPATH='{packages}' PYTHONDONTWRITEBYTECODE=1 python3 '{tests}/verify.py' {arguments}"))
}

/// Chains with constraints, and a list past the end of what stands on it: three judges say the same.
// Long: a certificate ends in six seconds.
#[test]
fn judges_agree_on_constraints_and_on_a_list_past_an_end() {
    let world = gateway();
    world.run("user change mara --mail mara@skerry.example").is(0);
    world.run("authority create --domain skerry.example").is(0);
    world.run("credential issue mara/phone --kind certificate").is(0);
    world.run("credential handover mara/phone --as pem --to phone --yes").is(0);
    public_parts(&world);
    // Within the domain.
    world.judge(&format!("{VERIFY} phone/certificate.pem")).is(0);
    world.judge("cat phone/chain.pem root.pem | certtool --verify-chain").is(0);
    third_judge(&world, "root.pem phone/certificate.pem phone/chain.pem client_auth").is(0);
    // By the same authority, and beyond its domain: made by somebody who has its key and does not heed it.
    let pass = world.secret("pass", "seven skerries in the fog\n");
    world
        .run(&format!(
            "authority export issuing --with-private-key --to issuing-key.pem --passphrase-file {pass} --yes"
        ))
        .is(0);
    world
        .judge(
            "set -e
             for name in DNS:elsewhere.example email:mara@elsewhere.example IP:203.0.113.10 IP:2001:db8::1; do
               at=$(echo $name | tr -c 'a-zA-Z0-9\\n' -)
               openssl req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj '/O=skerry' -keyout beyond.key -out beyond.csr
               openssl x509 -req -in beyond.csr -CA issuing-key.pem -CAkey issuing-key.pem -passin file:pass -days 9 -out beyond$at.pem \
                 -extfile <(echo \"subjectAltName=$name\"; echo keyUsage=critical,digitalSignature; echo extendedKeyUsage=clientAuth)
             done",
        )
        .is(0);
    let beyond = world.judge("ls beyond*.pem").is(0).out;
    assert_eq!(beyond.lines().count(), 4, "{beyond}");
    for file in beyond.lines() {
        assert_ne!(
            world.judge(&format!("openssl verify -CAfile root.pem -untrusted chain.pem {file}")).code,
            0,
            "{file}"
        );
        third_judge(&world, &format!("root.pem {file} phone/chain.pem client_auth")).is(1).says("refused");
    }
    assert_ne!(world.judge("cat beyondDNS-elsewhere-example.pem chain.pem | certtool --verify-chain").code, 0);
    // One that ends soon is revoked: it stands on the first list after its end, and on no later one.
    world.run("device add mara/tablet").is(0);
    let end = jiff::Timestamp::now() + jiff::SignedDuration::from_secs(6);
    world.run(&format!("credential issue mara/tablet --kind certificate --until {end}")).is(0);
    world.run("credential handover mara/tablet --as pem --to tablet --yes").is(0);
    world.run("credential revoke mara/tablet --reason stolen --yes").is(0);
    let serial =
        world.judge("openssl x509 -in tablet/certificate.pem -noout -serial").is(0).out.trim().replace("serial=", "");
    wait(30, "its end", || (jiff::Timestamp::now() > end).then_some(()));
    let listed = || {
        world.run("authority publish issuing").is(0);
        public_parts(&world);
        world.judge("openssl crl -inform DER -in issuing.crl -noout -text").is(0).out.contains(&serial)
    };
    assert!(listed(), "the first list that is signed after its end");
    let before = end - jiff::SignedDuration::from_secs(2);
    let at = before.as_second();
    world.judge(&format!("{VERIFY} -crl_check -CRLfile lists.pem -attime {at} tablet/certificate.pem")).is(2);
    // This judge overlooks a second, and takes what has ended within it whatever a list says.
    let overlooked = end + jiff::SignedDuration::from_secs(2);
    wait(30, "a second after its end", || (jiff::Timestamp::now() > overlooked).then_some(()));
    third_judge(
        &world,
        "root.pem tablet/certificate.pem tablet/chain.pem client_auth --crl issuing.crl --crl root.crl",
    )
    .is(1)
    .says("refused");
    assert!(!listed(), "and no later one");
}

// Long: RSA keys are made.
#[test]
fn both_judges_take_certificates_of_every_kind_of_key() {
    for (key, text) in [("p-256", "prime256v1"), ("p-384", "secp384r1"), ("rsa-3072", "3072 bit")] {
        let world = skerry(key);
        issue(&world);
        world
            .judge(&format!("{VERIFY} -purpose sslclient -crl_check_all -CRLfile lists.pem phone/certificate.pem"))
            .is(0);
        world.judge(&format!("{VERIFY} -purpose sslserver phone/certificate.pem")).is(2).says("purpose");
        world.judge("openssl x509 -in root.pem -noout -text").is(0).says(text).says("CA:TRUE, pathlen:1");
        let own = world.judge("openssl x509 -in phone/certificate.pem -noout -text").is(0);
        for part in [
            "CA:FALSE",
            "Digital Signature",
            "TLS Web Client Authentication",
            "email:mara@skerry.example",
            "othername: UPN",
        ] {
            assert!(own.out.contains(part), "{part} is not in {}", own.out);
        }
        world
            .judge("cat phone/chain.pem root.pem | certtool --verify-chain")
            .is(0)
            .says("Chain verification output: Verified");
        world.judge("certtool --verify --load-ca-certificate root.pem --infile phone/chain.pem --verify-purpose=1.3.6.1.5.5.7.3.2").is(0);
        world
            .judge("diff <(openssl pkey -in phone/key.pem -pubout) <(openssl x509 -in phone/certificate.pem -pubkey -noout)")
            .is(0);
        world.judge("certtool --load-ca-certificate root.pem --verify-crl --infile root.crl.pem").is(0);
        // And a third.
        let lists = "--crl issuing.crl --crl root.crl";
        let verify = |purpose: &str| {
            third_judge(&world, &format!("root.pem phone/certificate.pem phone/chain.pem {purpose} {lists}"))
        };
        verify("client_auth").is(0).says("accepted");
        verify("server_auth").is(1).says("not valid for the purpose");
        // By group: 90 days, and not a minute more.
        world.judge(&format!("{VERIFY} -attime $(date -d '+89 days' +%s) phone/certificate.pem")).is(0);
        world.judge(&format!("{VERIFY} -attime $(date -d '+91 days' +%s) phone/certificate.pem")).is(2).says("expired");
    }
}

#[test]
fn weak_keys_of_authorities_are_refused_with_the_reason() {
    let world = World::estate();
    for weak in ["rsa-2048", "rsa-1024", "dsa"] {
        world.run(&format!("authority create --key {weak}")).is(2).says("weakest part");
    }
    world.run("authority list").is(0).says("no authorities yet");
}

#[test]
fn a_revoked_certificate_is_refused_and_a_held_one_comes_back() {
    let world = skerry("p-256");
    issue(&world);
    let check = format!("{VERIFY} -crl_check -CRLfile lists.pem phone/certificate.pem");
    world.judge(&check).is(0);
    world.run("user suspend mara --yes").is(0);
    public_parts(&world);
    world.judge(&check).is(2).says("revoked");
    world.judge("openssl crl -inform DER -in issuing.crl -noout -text").is(0).says("Certificate Hold");
    world.run("user restore mara").is(0);
    public_parts(&world);
    world.judge(&check).is(0);
    world.run_words(&["credential", "revoke", "mara/phone", "--reason", "lost on the ferry", "--yes"]).is(0);
    public_parts(&world);
    world.judge(&check).is(2).says("revoked");
    let list = world.judge("openssl crl -inform DER -in issuing.crl -noout -text").is(0).says("Key Compromise");
    // Each list has the next number, and restoring the user does not bring back what was revoked.
    assert!(list.out.contains("CRL Number: \n                4"), "{}", list.out);
    world.run("user suspend mara --yes").is(0);
    world.run("user restore mara").is(0);
    public_parts(&world);
    world.judge(&check).is(2).says("revoked");
    world.judge("certtool --verify --load-ca-certificate root.pem --load-crl lists.pem --infile phone/chain.pem").is(1);
}

#[test]
fn every_reason_stands_on_the_list_as_the_standard_has_it() {
    let world = skerry("p-256");
    let cases = [
        ("key-compromise", "Key Compromise"),
        ("superseded", "Superseded"),
        ("cessation-of-operation", "Cessation Of Operation"),
        ("affiliation-changed", "Affiliation Changed"),
        ("privilege-withdrawn", "Privilege Withdrawn"),
        ("the season is over", "Cessation Of Operation"),
    ];
    for (at, (words, expected)) in cases.into_iter().enumerate() {
        world.run(&format!("device add mara/d{at}")).is(0);
        world.run(&format!("credential issue mara/d{at} --kind certificate")).is(0);
        world.run_words(&["credential", "revoke", &format!("mara/d{at}"), "--reason", words, "--yes"]).is(0);
        let shown = world.run(&format!("credential show mara/d{at}")).is(0);
        let serial = shown.out.lines().find_map(|line| line.strip_prefix("serial")).unwrap().trim().to_uppercase();
        public_parts(&world);
        let list = world.judge("openssl crl -inform DER -in issuing.crl -noout -text").is(0).out;
        let entry = list.split("Serial Number: ").find(|entry| entry.starts_with(&serial)).unwrap();
        assert!(entry.contains(expected), "{words}: {entry}");
    }
}

#[test]
fn serial_numbers_are_random_positive_and_short_enough() {
    let world = skerry("p-256");
    world.run("credential issue mara/phone --kind certificate").is(0);
    let mut serials = Vec::new();
    for _ in 0..8 {
        let shown = world.run("credential show mara/phone --kind certificate").is(0);
        serials.push(shown.out.lines().find_map(|line| line.strip_prefix("serial")).unwrap().trim().to_owned());
        world.run("credential renew mara/phone --yes").is(0);
    }
    for serial in &serials {
        assert!((1..=40).contains(&serial.len()) && u8::from_str_radix(&serial[..2], 16).unwrap() < 0x80, "{serial}");
    }
    let mut different: Vec<_> = serials.iter().map(|serial| &serial[..8]).collect();
    different.sort_unstable();
    different.dedup();
    assert_eq!(different.len(), serials.len(), "not counted up, not repeated");
}

// Long: each passphrase takes a second of work, by design.
#[test]
fn a_root_that_left_is_asked_for_when_it_must_sign() {
    let world = skerry("p-256");
    let file = world.secret("pass", "seven skerries in the fog\n");
    world
        .run(&format!(
            "authority export root --with-private-key --leave --to root-key.pem --passphrase-file {file} --yes"
        ))
        .is(0);
    world.run("authority show root").is(0).says("away");
    world.judge("openssl pkey -in root-key.pem -passin file:pass -noout -text").is(0).says("prime256v1");
    world.judge("openssl pkey -in root-key.pem -passin pass:wrong -noout").is(1);
    world.judge("certtool --key-info --password 'seven skerries in the fog' --infile root-key.pem").is(0);
    assert!(!world.read("root-key.pem").contains("BEGIN PRIVATE KEY"));
    let before = world.everything();
    world.run("authority create crews").is(3).says("--with-key");
    world.run("authority create crews --with-key root-key.pem --key-passphrase-file nowhere").is(1);
    let wrong = world.secret("wrong", "seven skerries in the sun");
    world
        .run(&format!("authority create crews --with-key root-key.pem --key-passphrase-file {wrong}"))
        .is(3)
        .says(" is wrong");
    assert_eq!(world.everything(), before, "nothing changed");
    world.run(&format!("authority create crews --with-key root-key.pem --key-passphrase-file {file}")).is(0);
    world.run("authority show root").is(0).says("away");
    // What the issuing authority does is not held up, and says so where the root is needed.
    world.run("credential issue mara/phone --kind certificate").is(2).says("crews, issuing");
    world.run("credential issue mara/phone --kind certificate --authority issuing").is(0);
    world.run("credential handover mara/phone --as pem --to phone --yes").is(0);
    public_parts(&world);
    world.judge(&format!("{VERIFY} phone/certificate.pem")).is(0);
    world.run("authority retire issuing --reason closed").is(2).says("1 certificate of devices: mara/phone");
    world.run("authority retire issuing --reason closed --yes").is(3).says("--with-key");
    world
        .run(&format!(
            "authority retire issuing --reason closed --yes --with-key root-key.pem --key-passphrase-file {file}"
        ))
        .is(0)
        .says("1 certificate of devices");
    public_parts(&world);
    world
        .judge("openssl verify -CAfile root.pem -untrusted chain.pem -crl_check_all -CRLfile lists.pem phone/certificate.pem")
        .is(2)
        .says("revoked");
    world.run("credential list").is(0).says("revoked");
}

// Long: each passphrase takes a second of work, by design.
#[test]
fn an_authority_that_was_made_elsewhere_is_brought_in_and_checked() {
    let world = gateway();
    world
        .judge(
            "set -e
             ca='-addext basicConstraints=critical,CA:TRUE -addext keyUsage=critical,keyCertSign,cRLSign'
             openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-384 -nodes -subj '/CN=Old Root' -days 900 \
               -keyout old.key -out old.pem $ca
             openssl pkcs8 -topk8 -in old.key -passout pass:seven-skerries -out old-locked.key
             openssl pkcs12 -export -inkey old.key -in old.pem -passout pass:seven-skerries -out old.p12
             openssl pkcs12 -export -inkey old.key -in old.pem -passout pass: -out open.p12
             openssl pkcs12 -export -nokeys -in old.pem -passout pass:seven-skerries -out nokey.p12
             openssl req -x509 -newkey rsa:2048 -nodes -subj '/CN=Weak' -keyout weak.key -out weak.pem $ca
             openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj '/CN=Leaf' -keyout leaf.key \
               -out leaf.pem -addext basicConstraints=critical,CA:FALSE
             openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj '/CN=Silent' -keyout silent.key \
               -out silent.pem -addext basicConstraints=critical,CA:TRUE -addext keyUsage=critical,keyCertSign
             openssl req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj '/CN=Below' -keyout below.key -out below.csr
             openssl x509 -req -in below.csr -CA old.pem -CAkey old.key -days 800 -out below.pem \
               -extfile <(echo 'basicConstraints=critical,CA:TRUE'; echo 'keyUsage=critical,keyCertSign,cRLSign')
             openssl ec -in old.key -out sec1.key 2>/dev/null
             cat below.pem old.pem > both.pem
             openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj '/CN=Short' -keyout short.key -days 900 \
               -out short-root.pem -addext basicConstraints=critical,CA:TRUE,pathlen:0 -addext keyUsage=critical,keyCertSign,cRLSign
             openssl x509 -req -in below.csr -CA short-root.pem -CAkey short.key -days 800 -out short-below.pem \
               -extfile <(echo 'basicConstraints=critical,CA:TRUE'; echo 'keyUsage=critical,keyCertSign,cRLSign')
             cat short-below.pem short-root.pem > short.pem
             for name in old leaf; do
               mkdir -p ca-$name; : > ca-$name/index; echo 2B > ca-$name/number
               printf 'R\\t400101000000Z\\t260101000000Z,keyCompromise\\t0123456789\\tunknown\\t/CN=gone\\n' > ca-$name/index
               printf '[ca]\\ndefault_ca=d\\n[d]\\ndatabase=ca-%s/index\\ncrlnumber=ca-%s/number\\ndefault_md=sha256\\n' $name $name > ca-$name/conf
             done
             openssl ca -gencrl -config ca-old/conf -keyfile old.key -cert old.pem -crldays 7 -out old.crl
             openssl ca -gencrl -config ca-leaf/conf -keyfile silent.key -cert silent.pem -crldays 7 -out other.crl",
        )
        .is(0);
    world.write("pass", "seven-skerries");
    world.write("wrong", "six-skerries");
    let before = world.everything();
    let bad = [
        ("--from old.pem", "no private key"),
        ("--from old.pem --key-file leaf.key", "do not belong together"),
        ("--from leaf.pem --key-file leaf.key", "is no authority"),
        ("--from silent.pem --key-file silent.key", "could not take anything back"),
        ("--from weak.pem --key-file weak.key", "2048 bits"),
        ("--from below.pem --key-file below.key", "does not end at a root"),
        ("--from old.pem --key-file old-locked.key --from-passphrase-file wrong", " is wrong"),
        ("--from old.p12 --from-passphrase-file wrong", " is wrong"),
        ("--from nokey.p12 --from-passphrase-file pass", "no private key"),
        ("--from below.csr", "neither a certificate nor a key"),
        ("--from nowhere.pem", "cannot be read"),
        ("--from short.pem --key-file below.key", "allows fewer below it"),
        ("--from old.pem --key-file old.key --list other.crl", "not of CN=Old Root"),
        ("--from old.pem --key-file old.key --list old.pem", "revocation list"),
    ];
    world.run("authority create old --from old.pem --key-file old.key").is(2).says("--list FILE").says("--no-list");
    for (words, why) in bad {
        let list = if words.contains("--list") { "" } else { "--no-list" };
        let came = world.run(&format!("authority create old {words} {list}"));
        assert!((1..=3).contains(&came.code), "{words}: {came:?}");
        came.says(why).says("error: ");
        assert_eq!(world.everything(), before, "{words} changed something");
    }
    let good = [
        ("a", "--from old.pem --key-file old-locked.key --from-passphrase-file pass --list old.crl"),
        ("b", "--from both.pem --key-file below.key --no-list"),
    ];
    for (name, words) in good {
        world.run(&format!("authority create {name} {words}")).is(0).says("brought in");
        world.run(&format!("credential issue mara/phone --kind certificate --authority {name}")).is(0);
        world.run(&format!("credential handover mara/phone --as pem --to {name} --yes")).is(0);
        world
            .judge(&format!("openssl verify -CAfile old.pem -untrusted {name}/chain.pem {name}/certificate.pem"))
            .is(0);
        world.run("credential revoke mara/phone --reason superseded --yes").is(0);
        world.run(&format!("authority export {name} --list --to {name}.crl")).is(0);
        let above = if name == "a" { "old.pem" } else { "below.pem" };
        world.judge(&format!("openssl crl -inform DER -in {name}.crl -CAfile {above} -noout")).is(0);
        let list = world.judge(&format!("openssl crl -inform DER -in {name}.crl -noout -text")).is(0).out;
        // What was taken back before stays so, and numbers go on.
        assert_eq!(list.contains("Serial Number: 0123456789"), name == "a", "{list}");
        if name == "a" {
            let number = list.split("X509v3 CRL Number: \n").nth(1).unwrap().trim_start();
            assert!(
                number.starts_with("0x2D") || number.starts_with("45"),
                "43 was brought, 44 is the first here: {list}"
            );
        }
        // A newer list takes the place of the file.
        world.run(&format!("authority export {name} --list --to {name}.crl")).is(0);
    }
    // Nobody is asked for a passphrase that there is not.
    world.run("authority create c --from open.p12 --no-list").is(3).says("already, as a");
    world.run("authority create c --from old.p12 --from-passphrase-file pass --no-list").is(3).says("already, as a");
}

/// Bundles as other programs write them, now and in former times, open with their passphrase and with no other; what is not known says so by
/// name, and what would work for hours is not begun.
#[test]
fn bundles_of_other_programs_are_opened_whatever_protects_them() {
    let world = gateway();
    world
        .judge(
            "set -e
             ca='-addext basicConstraints=critical,CA:TRUE -addext keyUsage=critical,keyCertSign,cRLSign'
             openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj '/CN=Old Root' -days 900 -keyout old.key -out old.pem $ca
             openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj '/CN=Beside' -days 900 -keyout beside.key -out beside.pem $ca
             printf 'sjøgutt på vakt' > pass
             make() { openssl pkcs12 -export -inkey old.key -in old.pem -certfile beside.pem -passout file:pass -out \"$@\"; }
             make today.p12
             make short.p12 -certpbe AES-128-CBC -keypbe AES-192-CBC -macalg sha384 -iter 1
             make long.p12 -macalg sha512 -iter 50000 -name 'Gammel rot'
             make old.p12 -legacy -certpbe PBE-SHA1-RC2-40 -keypbe PBE-SHA1-3DES -macalg sha1
             make plain.p12 -certpbe NONE -keypbe NONE
             make unkept.p12 -nomac
             make strange.p12 -legacy -keypbe PBE-SHA1-RC4-128
             certtool --to-p12 --load-privkey old.key --load-certificate old.pem --p12-name old --password \"$(cat pass)\" --outder --outfile other.p12",
        )
        .is(0);
    world.write("wrong", "another");
    world.run("authority create a --from old.pem --key-file old.key --no-list").is(0);
    for name in ["today", "short", "long", "old", "plain", "unkept", "other"] {
        let opens = |file: &str| {
            world.run(&format!("authority create c --from {name}.p12 --from-passphrase-file {file} --no-list"))
        };
        opens("pass").is(3).says("already, as a");
        opens("wrong").is(3).says("is wrong");
    }
    let strange = "authority create c --from strange.p12 --from-passphrase-file pass --no-list";
    world.run(strange).is(3).says("not known here").says("1.2.840.113549.1.12.1.1").says("AES-256");
    // What asks for the work of days: the count is the last thing in it.
    let mut bytes = std::fs::read(world.path("long.p12")).unwrap();
    let at = bytes.len() - 5;
    assert_eq!(bytes[at..], [2, 3, 0, 0xc3, 0x50], "50,000, with a zero in front");
    bytes[at + 2..].copy_from_slice(&[0x7f, 0xff, 0xff]);
    std::fs::write(world.path("endless.p12"), &bytes).unwrap();
    world
        .run("authority create c --from endless.p12 --from-passphrase-file pass --no-list")
        .is(2)
        .says("8388607 times");
    for length in (1..bytes.len()).step_by(97) {
        std::fs::write(world.path("cut.p12"), &bytes[..length]).unwrap();
        let cut = world.run("authority create c --from cut.p12 --from-passphrase-file pass --no-list");
        assert!((1..=3).contains(&cut.code), "{length}: {cut:?}");
        cut.says("error: ");
    }
}

#[test]
fn requests_from_devices_are_taken_only_when_they_are_whole_and_their_own() {
    let world = skerry("p-256");
    world
        .judge(
            "set -e
             new() { openssl req -new -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -keyout \"$1.key\" -out \"$1.csr\" -subj \"$2\" ${3:+-addext \"$3\"}; }
             new good /CN=mara subjectAltName=email:mara@skerry.example
             new other /CN=tomas
             new names /CN=mara subjectAltName=email:tomas@skerry.example
             new host /CN=mara subjectAltName=DNS:gangway.skerry.example
             openssl req -new -newkey rsa:1024 -nodes -keyout weak.key -out weak.csr -subj /CN=mara
             openssl req -in good.csr -outform DER -out good.der
             head -c 100 good.der > short.der
             python3 - <<'P'
d = bytearray(open('good.der', 'rb').read())
d[-5] ^= 1
open('forged.der', 'wb').write(d)
P",
        )
        .is(0);
    let before = world.everything();
    let bad = [
        ("other.csr", "\"tomas\""),
        ("names.csr", "tomas@skerry.example"),
        ("host.csr", "gangway.skerry.example"),
        ("weak.csr", "1024 bits"),
        ("forged.der", "does not hold"),
        ("short.der", "no request"),
        ("good.key", "no request"),
    ];
    for (file, why) in bad {
        let came = world.run(&format!("credential issue mara/phone --kind certificate --request {file}"));
        assert!((2..=3).contains(&came.code), "{file}: {came:?}");
        came.says(why);
        assert_eq!(world.everything(), before, "{file}");
    }
    world.run("credential issue mara/phone --kind certificate --request good.der").is(0);
    world.run("credential handover mara/phone --to phone.p12 --yes").is(3).says("made on the device");
    world.run("credential handover mara/phone --as pem --to phone").is(0);
    assert!(!world.path("phone/key.pem").exists());
    public_parts(&world);
    world.judge(&format!("{VERIFY} phone/certificate.pem")).is(0);
    world
        .judge("diff <(openssl pkey -in good.key -pubout) <(openssl x509 -in phone/certificate.pem -pubkey -noout)")
        .is(0);
    // The same key does not let another device in.
    world.run("user add tomas").is(0);
    world.run("device add tomas/phone").is(0);
    world.run("credential issue tomas/phone --kind certificate --request good.csr").is(3).says("\"mara\"");
}

#[test]
fn an_authority_of_a_domain_signs_for_that_domain_only() {
    let world = gateway();
    world.run("authority create --domain skerry.example").is(0);
    issue(&world);
    world.judge(&format!("{VERIFY} phone/certificate.pem")).is(0);
    world
        .judge("openssl x509 -in chain.pem -noout -text")
        .is(0)
        .says("Name Constraints: critical")
        .says("DNS:skerry.example");
    world.run("user add oskar --mail oskar@elsewhere.example").is(0);
    world.run("device add oskar/laptop").is(0);
    world.run("credential issue oskar/laptop --kind certificate").is(3).says("beyond what the authority may sign");
    // Without a mail address the name is made of the domain.
    world.run("user add ines").is(0);
    world.run("device add ines/laptop").is(0);
    world.run("credential issue ines/laptop --kind certificate").is(0);
    world.run("credential show ines/laptop").is(0).says("ines@skerry.example");
}

#[test]
fn what_would_outlive_its_authority_is_refused() {
    let world = gateway();
    world.run("authority create --until 30d").is(0);
    world
        .run("credential issue mara/phone --kind certificate --until 60d")
        .is(3)
        .says("hold longer than its authority");
    // By group it would be 90 days; what nobody asked for in words is cut to what is possible.
    world.run("credential issue mara/phone --kind certificate").is(0);
    world.run("authority create below --under issuing").is(3).says("path length of 0");
    world.run("authority create long --until 20y").is(3).says("longer than its authority");
    world.run("authority create issuing").is(3).says("already");
    world.run("authority create root --under root").is(2);
}

// Long: RSA keys are made, and passwords of bundles are worked on.
#[test]
fn bundles_open_with_what_devices_have() {
    let world = skerry("p-256");
    world.run("credential issue mara/phone --kind certificate").is(0);
    let password = |came: &Came| came.out.lines().last().unwrap().rsplit("  ").next().unwrap().to_owned();
    let came = world.run("credential handover mara/phone --to new.p12 --yes").is(0);
    world.write("pass", &password(&came));
    let info = world.judge("openssl pkcs12 -in new.p12 -passin file:pass -info -noout").is(0);
    assert!(info.err.contains("AES-256-CBC") && info.err.contains("hmacWithSHA256"), "{}", info.err);
    world
        .judge("openssl pkcs12 -in new.p12 -passin file:pass -nokeys")
        .is(0)
        .says("CN = skerry root")
        .says("CN = phone.mara.skerry.internal");
    world.judge("certtool --p12-info --inder --password \"$(cat pass)\" --infile new.p12").is(0);
    world.judge("openssl pkcs12 -in new.p12 -passin pass:wrong -noout").is(1);
    world.run("credential handover mara/phone --to again.p12 --yes").is(3).says("no second copy");
    let row = world.judge("python3 -c \"import sqlite3; print(sqlite3.connect('skerry').execute('select private_key from credentials').fetchall())\"");
    assert!(row.out.contains("(None,)"), "the key is erased: {row:?}");

    world.run("credential renew mara/phone").is(0);
    let came =
        world.run("credential handover mara/phone/2 --for-old-clients --to old.p12 --yes").is(0).says("only weakly");
    world.write("pass", &password(&came));
    world.judge("openssl pkcs12 -legacy -in old.p12 -passin file:pass -info -noout").is(0).says("3-KeyTripleDES");

    // Nothing was handed over when the file cannot be written.
    world.run("credential renew mara/phone").is(0);
    world.run("credential handover mara/phone/3 --to old.p12 --yes").is(1).says("cannot be written");
    world.run("credential handover mara/phone/3 --to third.p12 --yes").is(0);
}

#[test]
fn profiles_use_the_published_names_and_are_signed() {
    let world = skerry("p-256");
    world.run("credential issue mara/phone --kind certificate").is(0);
    let came = world.run("credential handover mara/phone --as apple --to phone.mobileconfig --yes").is(0);
    let password = came.out.lines().last().unwrap().rsplit("  ").next().unwrap().to_owned();
    world.write("pass", &password);
    public_parts(&world);
    world.judge("openssl cms -verify -inform DER -in phone.mobileconfig -CAfile root.pem -out profile.plist").is(0);
    assert!(!world.read("profile.plist").contains(&password), "the transport password is not in the file");
    world
        .judge(
            "python3 - <<'P'
import plistlib, uuid
p = plistlib.load(open('profile.plist', 'rb'))
assert p['PayloadType'] == 'Configuration' and p['PayloadVersion'] == 1
uuid.UUID(p['PayloadUUID'])
parts = {c['PayloadType']: c for c in p['PayloadContent']}
assert set(parts) == {'com.apple.security.root', 'com.apple.security.pkcs1', 'com.apple.security.pkcs12', 'com.apple.vpn.managed'}, set(parts)
vpn = parts['com.apple.vpn.managed']
assert vpn['VPNType'] == 'IKEv2'
ike = vpn['IKEv2']
known = {'RemoteAddress', 'RemoteIdentifier', 'LocalIdentifier', 'AuthenticationMethod', 'CertificateType', 'PayloadCertificateUUID',
         'ServerCertificateIssuerCommonName', 'ServerCertificateCommonName', 'ExtendedAuthEnabled', 'EnablePFS', 'DeadPeerDetectionRate',
         'IKESecurityAssociationParameters', 'ChildSecurityAssociationParameters'}
assert set(ike) == known, set(ike) ^ known
assert ike['RemoteAddress'] == ike['RemoteIdentifier'] == 'gangway.skerry.example'
assert ike['LocalIdentifier'] == 'phone.mara.skerry.internal' and ike['CertificateType'] == 'ECDSA256', ike
assert ike['PayloadCertificateUUID'] == parts['com.apple.security.pkcs12']['PayloadUUID']
for which in ('IKESecurityAssociationParameters', 'ChildSecurityAssociationParameters'):
    assert ike[which] == {'EncryptionAlgorithm': 'AES-256-GCM', 'IntegrityAlgorithm': 'SHA2-256', 'DiffieHellmanGroup': 19, 'LifeTimeInMinutes': 480}
open('inside.p12', 'wb').write(parts['com.apple.security.pkcs12']['PayloadContent'])
open('inside.cer', 'wb').write(parts['com.apple.security.root']['PayloadContent'])
P
             openssl pkcs12 -legacy -in inside.p12 -passin file:pass -noout && cmp inside.cer <(openssl x509 -in root.pem -outform DER)",
        )
        .is(0);

    world.run("credential renew mara/phone").is(0);
    let came = world.run("credential handover mara/phone/2 --as windows --to phone.ps1 --yes").is(0);
    world.write("pass", came.out.lines().last().unwrap().rsplit("  ").next().unwrap());
    let script = world.read("phone.ps1");
    for part in [
        "Import-PfxCertificate -FilePath $file.FullName -CertStoreLocation Cert:\\LocalMachine\\My -Password $password\r\n",
        "-CertStoreLocation Cert:\\LocalMachine\\Root",
        "-CertStoreLocation Cert:\\LocalMachine\\CA",
        "Add-VpnConnection -AllUserConnection -Name 'skerry harbour' -ServerAddress 'gangway.skerry.example' -TunnelType Ikev2 -AuthenticationMethod MachineCertificate",
        "-DHGroup ECP256 -PfsGroup ECP256 -Force",
        "Add-VpnConnectionRoute -AllUserConnection -ConnectionName 'skerry harbour' -DestinationPrefix '10.44.0.0/22'",
    ] {
        assert!(script.contains(part), "{part} is not in {script}");
    }
    world
        .judge(
            "grep -o \"FromBase64String('[^']*')\" phone.ps1 | head -1 | cut -d\\' -f2 | base64 -d > inside2.p12 && \
             openssl pkcs12 -legacy -in inside2.p12 -passin file:pass -noout",
        )
        .is(0);
    // The filter is the authority that signs gateways, by the name under which its store has it.
    let thumb = world.judge("openssl x509 -in chain.pem -noout -fingerprint -sha1 | cut -d= -f2 | tr -d :").is(0);
    assert!(script.contains(thumb.out.trim()), "{}", thumb.out);

    // The menu of Android takes RSA alone.
    world.run("credential renew mara/phone").is(0);
    let before = world.everything();
    world.run("credential handover mara/phone/3 --as android --to phone.zip --yes").is(3).says("--key rsa-3072");
    assert_eq!(world.everything(), before);
    world.run("credential renew mara/phone --kind certificate --key rsa-3072").is(0);
    let came = world.run("credential handover mara/phone/4 --as android --to phone.zip --yes").is(0);
    world.write("pass", came.out.lines().last().unwrap().rsplit("  ").next().unwrap());
    world
        .judge(
            "python3 -c \"import zipfile; z = zipfile.ZipFile('phone.zip'); assert z.testzip() is None; z.extractall('android')\" && \
             openssl pkcs12 -legacy -in android/mara-phone.p12 -passin file:pass -noout && \
             openssl x509 -inform DER -in android/authority.crt -noout && grep -q gangway.skerry.example android/steps.txt && grep -q 'IPSec identifier: phone.mara.skerry.internal' android/steps.txt",
        )
        .is(0);
}

#[test]
fn a_gateways_certificate_follows_what_is_dialled() {
    let world = skerry("p-256");
    world.run("rollout --preview").is(0).says("certify gangway.skerry.example  (the first certificate)");
    world.run("rollout --yes").is(0);
    let fetch = |name: &str| {
        let keep = "python3 -c \"import json,base64; o=json.loads(json.load(open('lab/hosts/harbour/var/yestrel/order.json'))['order']); [open(f'gw{i}.der','wb').write(base64.b64decode(c)) for i,c in enumerate(o['content']['certificate'])]\"";
        world.judge(keep).is(0);
        public_parts(&world);
        let verify = format!(
            "openssl x509 -inform DER -in gw0.der -out gw.pem && {VERIFY} -purpose sslserver -crl_check -CRLfile lists.pem"
        );
        world.judge(&format!("{verify} -verify_hostname {name} gw.pem")).is(0);
        verify
    };
    let verify = fetch("gangway.skerry.example");
    world.judge(&format!("{verify} -verify_hostname harbour.skerry.example gw.pem")).is(2).says("hostname mismatch");
    world.judge("openssl x509 -in gw.pem -noout -text").is(0).says("TLS Web Server Authentication").says("ipsec");
    world.judge("test $(( ($(date -d \"$(openssl x509 -in gw.pem -noout -enddate | cut -d= -f2)\" +%s) - $(date -d \"$(openssl x509 -in gw.pem -noout -startdate | cut -d= -f2)\" +%s)) )) -le $((398 * 86400))").is(0);
    std::fs::copy(world.path("gw.pem"), world.path("before.pem")).unwrap();
    world.run("rollout --preview").is(0).says("nothing to do");

    world.run("gateway change harbour --dialled ferry.skerry.example --also 203.0.113.10 --also 2001:db8::7").is(0);
    world
        .run("rollout --preview")
        .is(0)
        .says("certify ferry.skerry.example, 203.0.113.10, 2001:db8::7  (in place of the one for gangway");
    world.run("rollout --yes").is(0);
    let verify = fetch("ferry.skerry.example");
    world.judge(&format!("{verify} -verify_ip 203.0.113.10 gw.pem")).is(0);
    world.judge(&format!("{verify} -verify_ip 2001:db8::7 gw.pem")).is(0);
    world.judge(&format!("{verify} -verify_ip 203.0.113.11 gw.pem")).is(2).says("IP address mismatch");
    world.judge(&format!("{VERIFY} -crl_check -CRLfile lists.pem before.pem")).is(2).says("revoked");
    // The key that the agent has is the certificate's.
    world
        .judge(
            "python3 -c \"import json,base64; open('gw.key','wb').write(base64.b64decode(json.load(open('lab/hosts/harbour/var/yestrel/certificate-keys.json'))[-1]))\"; \
             diff <(openssl pkey -inform DER -in gw.key -pubout) <(openssl x509 -in gw.pem -pubkey -noout)",
        )
        .is(0);
}

#[test]
fn a_gateway_takes_a_certificate_that_was_issued_elsewhere() {
    let world = skerry("p-256");
    world.run("gateway change harbour --request harbour.csr").is(0);
    world.judge("openssl req -in harbour.csr -verify -noout -text").is(0).says("DNS:gangway.skerry.example");
    world.judge("certtool --crq-info --infile harbour.csr").is(0).says("Self signature: verified");
    world
        .judge(
            "set -e
             openssl req -x509 -newkey ec -pkeyopt ec_paramgen_curve:P-256 -nodes -subj '/CN=Outside' -days 900 -keyout ca.key -out ca.pem
             sign() { openssl x509 -req -in harbour.csr -CA ca.pem -CAkey ca.key -days 90 -out \"$1\" -extfile <(echo \"$2\"; echo \"extendedKeyUsage=$3\"); }
             sign good.pem subjectAltName=DNS:gangway.skerry.example serverAuth
             sign wild.pem 'subjectAltName=DNS:*.skerry.example' serverAuth
             sign other.pem subjectAltName=DNS:elsewhere.example serverAuth
             sign client.pem subjectAltName=DNS:gangway.skerry.example clientAuth
             openssl x509 -req -in harbour.csr -CA ca.pem -CAkey ca.key -days 90 -out cn.pem",
        )
        .is(0);
    for (file, why) in [
        ("other.pem", "not for gangway.skerry.example"),
        ("client.pem", "not for servers"),
        ("cn.pem", "nobody by name"),
        ("ca.pem", "do not belong together"),
    ] {
        world.run(&format!("gateway change harbour --certificate {file}")).is(3).says(why);
    }
    world.run("gateway change harbour --certificate wild.pem").is(0);
    world
        .run("gateway change harbour --certificate good.pem --certificate-key ca.key")
        .is(3)
        .says("do not belong together");
    world.run("gateway show harbour").is(0).says("somebody else");
    // Who goes by it must know what stands above it: a profile brings that along.
    world.run("gateway change harbour --certificate good.pem").is(2).says("--certificate-key FILE");
    world.run("gateway change harbour --request again.csr").is(0);
    world
        .judge(
            "openssl x509 -req -in again.csr -CA ca.pem -CAkey ca.key -days 90 -out again.pem \
               -extfile <(echo subjectAltName=DNS:gangway.skerry.example; echo extendedKeyUsage=serverAuth) && cat again.pem ca.pem > whole.pem",
        )
        .is(0);
    world.run("gateway change harbour --certificate whole.pem").is(0);
    world.run("credential issue mara/phone --kind certificate --key p-384").is(0);
    world.run("credential handover mara/phone --as apple --to phone.mobileconfig --yes").is(0);
    public_parts(&world);
    world.judge("openssl cms -verify -inform DER -in phone.mobileconfig -CAfile root.pem -out profile.plist && openssl x509 -in ca.pem -outform DER -out ca.der").is(0);
    world
        .judge(
            "python3 - <<'P'
import plistlib
p = plistlib.load(open('profile.plist', 'rb'))['PayloadContent']
roots = [c['PayloadContent'] for c in p if c['PayloadType'] == 'com.apple.security.root']
assert len(roots) == 2 and open('ca.der', 'rb').read() in roots, len(roots)
[ike] = [c['IKEv2'] for c in p if 'IKEv2' in c]
assert ike['ServerCertificateIssuerCommonName'] == 'Outside' and ike['CertificateType'] == 'ECDSA384', ike
P",
        )
        .is(0);
    world.run("rollout --yes").is(0);
    // It is not replaced by itself, and what does not fit any more is said.
    world.run("gateway change harbour --dialled gangway.elsewhere.example").is(0);
    world.run("rollout --preview").is(0).says("was brought in is not for gangway.elsewhere.example");
    world.run("gateway change harbour --certificate estate").is(0);
    world.run("rollout --preview").is(0).says("certify gangway.elsewhere.example");
}

#[test]
fn a_renewal_leaves_the_old_certificate_until_its_end() {
    let world = skerry("p-256");
    world.run("credential issue mara/phone --kind certificate --until 20d").is(0);
    world.run("credential handover mara/phone --as pem --to phone --yes").is(0);
    world.run("credential list --expiring 10d").is(0).says("none ends by then");
    world.run("credential list --expiring 30d").is(0).says("mara/phone/1");
    world.run("credential renew --due 10d").is(0).says("no certificate is due");
    world.run("credential renew --due 30d --preview").is(0).says("mara/phone/1");
    world.run("credential renew --due 30d").is(0).says("mara/phone/2");
    world.run("credential renew --due 30d").is(0).says("no certificate is due");
    // Of other kinds only when that is said, and with a yes: it locks out.
    world.run("credential issue mara/phone --kind password --generate --until 20d").is(0);
    let came = world.run("credential renew --due 30d").is(0).says("no certificate is due");
    assert!(came.err.contains("renewed with --kind KIND: mara/phone/3"), "{came:?}");
    world.run("credential renew --due 30d --kind password").is(2).says("until they have the new ones");
    let made = world.run("credential renew --due 30d --kind password --yes --format json").is(0).json();
    assert_eq!(made["renewed"][0], "mara/phone/4", "{made}");
    let made = world.run("credential renew mara/phone --kind password --generate --yes --format json").is(0).json();
    assert_eq!((&made["credential"], &made["in_place_of"]), (&"mara/phone/5".into(), &"mara/phone/4".into()), "{made}");
    world.run("credential renew --due 30d --kind shared-secret").is(2).says("no end");
    world.run("credential revoke mara/phone --kind password --reason unused --yes").is(0);
    public_parts(&world);
    world.judge(&format!("{VERIFY} -crl_check -CRLfile lists.pem phone/certificate.pem")).is(0);
    // A lost device loses both.
    world.run("credential revoke mara/phone --reason lost --yes").is(0).says("2");
    public_parts(&world);
    world.judge(&format!("{VERIFY} -crl_check -CRLfile lists.pem phone/certificate.pem")).is(2).says("revoked");
    let list = world.judge("openssl crl -inform DER -in issuing.crl -noout -text").is(0).out;
    assert_eq!(list.matches("Serial Number").count(), 2, "{list}");
}

#[test]
fn the_strongest_rsa_keys_are_made_and_taken() {
    let world = gateway();
    world.run("authority create --key rsa-4096").is(0);
    world.run("authority list").is(0).says("rsa-4096");
    world.run("credential issue mara/phone --kind certificate --key rsa-3072").is(0);
    world.run("credential show mara/phone").is(0).says("rsa-3072");
    let came = world.run("credential handover mara/phone --as apple --to phone.mobileconfig --yes").is(0);
    assert!(came.out.contains("transport password"), "{came:?}");
    public_parts(&world);
    world.judge("openssl x509 -in root.pem -noout -text").is(0).says("4096 bit").says("sha256WithRSAEncryption");
    world.judge("openssl cms -verify -inform DER -in phone.mobileconfig -CAfile root.pem -out profile.plist").is(0);
    // The profile says what the identity is made of.
    world
        .judge("python3 -c \"import plistlib; p = plistlib.load(open('profile.plist','rb')); print([c['IKEv2']['CertificateType'] for c in p['PayloadContent'] if 'IKEv2' in c])\"")
        .is(0)
        .says("['RSA']");
    world.run("credential issue mara/phone --key rsa-3072").is(2).says("--key is for certificates");
}

#[test]
fn a_revocation_holds_although_no_list_can_be_signed_and_says_what_third_parties_go_by() {
    let world = skerry("p-256");
    world.run("credential issue mara/phone --kind certificate").is(0);
    world.secret("pass", "seven skerries in the fog");
    world.run("rollout --yes").is(0);
    world.run("authority export issuing --with-private-key --leave --to key.pem --passphrase-file pass --yes").is(0);
    world.run("authority show issuing").is(0).says("away").says("third parties go on for");
    let came = world.run("credential revoke mara/phone --reason lost --yes").is(0).says("order 1 -> 2");
    assert!(came.err.contains("could not be signed") && came.err.contains("by the old one until"), "{came:?}");
    public_parts(&world);
    let list = || world.judge("openssl crl -inform DER -in issuing.crl -noout -text").is(0).out;
    assert!(list().contains("No Revoked Certificates"));
    // With the key brought, the list is signed, and has what was revoked meanwhile.
    world.run("authority publish issuing --with-key key.pem --key-passphrase-file pass").is(0).says("signed list");
    public_parts(&world);
    assert!(list().contains("Key Compromise"));
    world.run("authority show issuing").is(0).says("away");
    world.run("credential issue mara/phone --kind certificate").is(3).says("whose key is here");
    world.run("authority publish --with-key phone").is(1);
}

#[test]
fn bad_words_about_authorities_change_nothing() {
    let world = skerry("p-256");
    let before = world.everything();
    for (words, code, text) in [
        ("authority create Harbour", 2, "the name harbour"),
        ("authority create other --under nowhere/x", 2, "path"),
        ("authority create other --domain skerry", 2, "host name"),
        ("authority create other --from nowhere.pem --until 30d", 2, "--until"),
        ("authority show nothing", 2, "no authority"),
        ("authority show isuing", 2, "the nearest is issuing"),
        ("authority export root --with-private-key", 2, "--to"),
        ("authority export root --leave --to x", 2, "--with-private-key"),
        ("authority publish --port 8047", 2, "--at"),
        ("authority publish nothing --at harbour", 2, "no authority"),
        ("authority publish --not-at nowhere", 2, "no gateway"),
        ("authority retire root --reason closed --yes", 3, "still needed"),
        ("authority retire issuing --reason", 2, "--reason"),
        ("credential issue mara/phone --kind certificate --public-key skerry.key", 2, "public key"),
        ("credential issue mara/phone --kind certificate --authority nothing", 2, "no authority"),
        ("credential issue mara/phone --kind certificate --second-factor", 2, "belongs to a key pair or an account"),
        ("credential issue mara/phone --kind certificate --once", 2, "--once is for key pairs"),
        ("credential issue mara/phone --kind certificate --at nowhere", 2, "no gateway"),
        ("credential issue mara/phone --kind certificate --request nowhere.csr", 1, "cannot be read"),
        ("credential issue mara/phone --kind letter", 2, "key-pair, certificate, password, shared-secret"),
        ("credential issue --group nobody --kind certificate --yes", 2, "no group"),
        ("credential issue mara/phone --group crew", 2, "--group"),
        ("credential handover mara/phone --kind certificate --to x.p12 --yes", 2, "has no certificate"),
        ("credential revoke --group crew --reason over --yes", 3, "nobody in crew"),
        ("credential revoke mara/phone --reason over --yes", 2, "has no credential"),
        ("credential renew mara/phone --yes", 2, "has no credential"),
        ("credential lift mara/phone", 2, "has no password account"),
        ("gateway change harbour --also nowhere", 2, "neither a host name nor an address"),
        ("gateway change harbour --certificate nowhere.pem", 1, "cannot be read"),
        ("group change crew --lifetime 0d", 2, "does not hold 0 days"),
        ("group change crew --lifetime long", 2, "days, such as 90d"),
    ] {
        let came = world.run(words).is(code).says(text);
        assert!(came.err.starts_with("error: "), "{came:?}");
        assert_eq!(world.everything(), before, "{words} changed something");
    }
}

/// Names in other scripts become what the domain name system and certificates have.
#[test]
fn names_in_other_scripts_are_converted_where_they_come_in() {
    let world = skerry("p-256");
    world.run("gateway change harbour --also gångväg.skerry.example").is(0);
    world.run("gateway show harbour").is(0).says("xn--gngvg-jrad.skerry.example");
    world.run("user change mara --mail mara@fähre.example").is(0);
    world.run("user show mara").is(0).says("mara@xn--fhre-loa.example");
    world.run("user change mara --mail mära@skerry.example").is(2).says("ASCII");
    world.run("user change mara --mail mara@skerry@example").is(2).says("no mail address");
    world.run("gateway change harbour --also=-ä.example").is(2).says("neither a host name nor an address");
    world.run("gateway change harbour --request harbour.csr").is(0);
    world.judge("openssl req -in harbour.csr -noout -text").is(0).says("DNS:xn--gngvg-jrad.skerry.example");
    // Where no name is short enough for a common name, there is none, and the names are critical (RFC 5280 section 4.2.1.6).
    let label = "a".repeat(60);
    world.run(&format!("gateway change harbour --dialled {label}.skerry.example --also=")).is(0);
    world.run("gateway change harbour --request long.csr").is(0);
    let request = world.judge("openssl req -in long.csr -noout -text").is(0).out;
    assert!(
        request.contains("Subject: \n") && request.contains("X509v3 Subject Alternative Name: critical"),
        "{request}"
    );
}

/// A name that no certificate is made for is said wherever somebody would look: before the rollout, at the gateway, and with a handover.
#[test]
fn names_without_a_certificate_are_said_in_preview_at_the_gateway_and_with_a_handover() {
    let world = gateway();
    world.run("authority create --domain skerry.example").is(0);
    world.run("user change mara --mail mara@skerry.example").is(0);
    world.run("credential issue mara/phone --kind certificate").is(0);
    world.run("credential handover mara/phone --as pem --to before --yes").is(0).says("harbour has no certificate yet");
    world.run("gateway change harbour --also 203.0.113.10").is(0);
    let words = "no certificate is made for 203.0.113.10: issuing signs for skerry.example alone";
    world.run("rollout --preview").is(0).says(words);
    let _ = world.run("rollout --yes");
    world.run("gateway show harbour").is(0).says(words);
    world.run("credential renew mara/phone").is(0);
    world.run("credential handover mara/phone/2 --as apple --to phone.mobileconfig --yes").is(0).says(words);
}
