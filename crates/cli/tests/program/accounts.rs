//! Password accounts, second factors, shared secrets; many users and credentials at once.

use std::fmt::Write as _;

use crate::common::World;

fn mara() -> World {
    let world = World::estate();
    world.run("user add mara --mail mara@skerry.example").is(0);
    world.run("device add mara/phone").is(0);
    world
}

fn database(world: &World) -> Vec<u8> {
    let mut all = std::fs::read(world.path("skerry")).unwrap();
    all.extend(std::fs::read(world.path("skerry-wal")).unwrap_or_default());
    all
}

fn contains(haystack: &[u8], needle: &str) -> bool {
    haystack.windows(needle.len()).any(|part| part == needle.as_bytes())
}

/// A code of RFC 6238, computed by something that is not ours.
pub fn code(world: &World, uri: &str, later: i64) -> String {
    world
        .judge(&format!(
            "python3 - '{uri}' {later} <<'P'
import base64, hashlib, hmac, struct, sys, time, urllib.parse
q = urllib.parse.parse_qs(urllib.parse.urlparse(sys.argv[1]).query)
s = q['secret'][0]
key = base64.b32decode(s + '=' * (-len(s) % 8))
assert len(key) == 20 and q['digits'] == ['6'] and q['period'] == ['30'] and q['algorithm'] == ['SHA1']
step = int(time.time()) // 30 + int(sys.argv[2])
h = hmac.new(key, struct.pack('>Q', step), hashlib.sha1).digest()
o = h[19] & 15
print('%06d' % ((struct.unpack('>I', h[o:o+4])[0] & 0x7fffffff) % 1000000))
P"
        ))
        .is(0)
        .out
        .trim()
        .to_owned()
}

#[test]
fn an_account_with_a_second_factor_takes_each_code_once() {
    let world = mara();
    world.run("credential issue mara/phone --kind password --generate --second-factor").is(0).says("mara.phone");
    let told = world.run("credential handover mara/phone --yes").is(0);
    let field = |name: &str| told.out.lines().find_map(|line| line.strip_prefix(name)).unwrap().trim().to_owned();
    let (password, uri) = (field("password"), field("second factor"));
    // Sixteen letters of thirty-two: eighty bits.
    assert_eq!(password.replace('-', "").len(), 16, "{password}");
    let secret = uri.split("secret=").nth(1).unwrap().split('&').next().unwrap().to_owned();
    for hidden in [&password, &secret] {
        assert!(!contains(&database(&world), hidden), "nothing stands readable in the database");
    }
    assert!(contains(&database(&world), "$argon2id$v=19$m=65536,t=3,p=1$"));
    world.run("credential handover mara/phone --yes").is(3).says("no second copy");
    world.secret("pass", &password);
    world.secret("wrong", "not that one at all");
    let attempt =
        |file: &str, code: &str| world.run(&format!("registry try mara.phone --password-file {file} --code {code}"));
    world.run("registry try mara.phone --password-file pass").is(3).says("none was given");
    let now = code(&world, &uri, 0);
    attempt("wrong", &now).is(3).says("wrong password");
    attempt("pass", &now).is(0);
    attempt("pass", &now).is(3).says("used already");
    attempt("pass", &code(&world, &uri, 8)).is(3).says("wrong code");
    world.run("credential show mara/phone").is(0).says("last used").says("second factor");
    // A suspended user is not let in, whatever is right; restored, the next code is.
    world.run("user suspend mara --yes").is(0);
    attempt("pass", &code(&world, &uri, 1)).is(3).says("suspended");
    world.run("user restore mara").is(0);
    attempt("pass", &code(&world, &uri, 1)).is(0);
    world.run("credential revoke mara/phone --reason lost --yes").is(0);
    attempt("pass", &code(&world, &uri, 1)).is(3).says("no account");
    assert!(!contains(&database(&world), &secret));
}

#[test]
fn weak_passwords_are_refused_and_repeated_failures_lock_out() {
    let world = mara();
    let before = world.everything();
    for weak in ["short", "password1234", "letmein2026", "mara.phone99", "mara@skerry.example", "aaaaaaaaaaaaaaaa"] {
        world.secret("pass", weak);
        world
            .run("credential issue mara/phone --kind password --password-file nowhere")
            .is(1)
            .says("the password cannot be read");
        let came = world.run("credential issue mara/phone --kind password --password-file pass").is(3).says("too weak");
        assert!(!came.err.contains(weak), "the password is not repeated: {came:?}");
    }
    world.run("credential issue mara/phone --kind password").is(2).says("--generate");
    assert_eq!(world.everything(), before);
    world.secret("pass", "gravel lantern oyster ninety");
    world.secret("wrong", "gravel lantern oyster eighty");
    world.run("credential issue mara/phone --kind password --password-file pass").is(0);
    for _ in 0..4 {
        world.run("registry try mara.phone --password-file wrong").is(3).says("wrong password");
    }
    world
        .run("registry try mara.phone --password-file wrong")
        .is(3)
        .says("locked out until")
        .says("credential lift mara/phone");
    world.run("registry try mara.phone --password-file pass").is(3).says("locked out until");
    world.run("credential list").is(0).says("locked out until");
    world.run("credential lift mara/phone").is(0).says("can sign in again");
    world.run("registry try mara.phone --password-file pass").is(0);
    world.run("registry try nobody.phone --password-file pass").is(3).says("no account");
}

#[test]
fn the_form_for_ms_chap_is_kept_only_while_it_is_asked_for() {
    let world = mara();
    let form = || {
        let query = "python3 -c \"import sqlite3; print(sqlite3.connect('skerry').execute('select account from credentials where revoked is null').fetchall())\"";
        world.judge(query).is(0).out
    };
    world.run("credential issue mara/phone --kind password --generate").is(0);
    assert!(form().contains("\"ms_chap\":null"), "{}", form());
    world
        .run("registry change estate --method password --method ms-chap-v2")
        .is(0)
        .says("whoever had it could sign in")
        .says("the password is not known: 1 account;");
    world.run("credential renew mara/phone --generate --yes").is(0);
    assert!(!form().contains("\"ms_chap\":null"));
    world.run("registry show estate").is(0).says("ms-chap-v2");
    world.run("registry change estate --method password").is(0);
    assert!(form().contains("\"ms_chap\":null"), "taken back with the method");
    world.run("registry change estate --method chap").is(2).says("cannot check chap");
}

#[test]
fn a_shared_secret_is_shown_once_and_rotated_with_an_overlap() {
    let world = mara();
    world.run("site add harbour --network 10.44.0.0/22 --time-zone Europe/Oslo").is(0);
    world.run("site add boatyard --network 192.168.61.0/24 --time-zone Europe/Oslo").is(0);
    world.run("credential issue harbour+nowhere --kind shared-secret").is(2).says("no site");
    world.run("credential issue harbour+harbour --kind shared-secret").is(2);
    world.run("credential issue harbour+boatyard --kind shared-secret").is(0).says("boatyard+harbour 1");
    world.run("credential issue boatyard+harbour --kind shared-secret").is(3).says("already");
    let shown = world.run("credential handover harbour+boatyard --kind shared-secret --yes").is(0);
    let secret = shown.out.lines().find_map(|line| line.strip_prefix("secret")).unwrap().trim().to_owned();
    assert!(secret.len() >= 32 && !contains(&database(&world), &secret), "{secret}");
    world.run("credential handover harbour+boatyard --kind shared-secret --yes").is(3).says("shown once");
    world
        .run("credential renew boatyard+harbour --kind shared-secret --overlap 14d")
        .is(0)
        .says("holds beside it until");
    let list = world.run("credential list --kind shared-secret").is(0);
    assert!(list.out.contains("overlaps") && list.out.contains("ready"), "{list:?}");
    world
        .run("credential show boatyard+harbour --kind shared-secret")
        .is(0)
        .says("number 1 still holds")
        .says("2 hold it");
    world
        .run("credential revoke boatyard+harbour --kind shared-secret --reason seen --yes")
        .is(0)
        .says("harbour 1")
        .says("harbour 2");
    world.run("credential list --kind shared-secret").is(0).says("seen");
}

/// The example's forty seasonal staff.
fn seasonal() -> String {
    let mut text = String::from("name,mail,about,groups,device,platform\r\n");
    for at in 1..=40 {
        let _ = write!(
            text,
            "hand-{at:02},hand-{at:02}@skerry.example,\"deck hand, summer\",seasonal crew,phone,android\r\n"
        );
    }
    text
}

fn groups(world: &World) {
    world.run("group add seasonal").is(0);
    world.run("group add crew").is(0);
}

#[test]
fn forty_seasonal_staff_come_in_and_go_again() {
    let world = World::estate();
    groups(&world);
    world.run("authority create").is(0);
    world.write("seasonal.csv", &seasonal());
    world.run("user import seasonal.csv --preview").is(0).says("hand-40@skerry.example");
    world.run("user list").is(0).says("no users yet");
    world.run("user import seasonal.csv").is(0).says("imported 40 users and 40 devices");
    world.run("user show hand-07").is(0).says("crew,seasonal").says("deck hand, summer");
    world.run("user import seasonal.csv").is(0).says("nothing to do: all are there as the file says");
    let would = world.run("credential issue --group crew --kind certificate --preview").is(0);
    assert_eq!(would.out.lines().count(), 41, "{would:?}");
    world.run("credential issue --group crew --kind certificate").is(2).says("40");
    world.run("user add mara --group crew").is(0);
    let issued = world.run("credential issue --group crew --kind certificate --yes").is(0);
    assert!(issued.out.contains("issued 40") && issued.err.contains("1 have no device: mara"), "{issued:?}");
    let none = world.run("credential issue --group crew --kind certificate --yes").is(0).says("nobody in crew needs");
    assert!(none.err.contains("40 have a certificate already"), "{none:?}");
    let over = ["credential", "revoke", "--group", "seasonal", "--reason", "the season is over"];
    let preview = world.run_words(&[&over[..], &["--preview"]].concat()).is(0);
    assert_eq!(preview.out.lines().count(), 41, "{preview:?}");
    world.run_words(&over).is(2).says("needs a yes");
    world.run_words(&[&over[..], &["--yes"]].concat()).is(0).says("revoked 40");
    world.run_words(&[&over[..], &["--yes"]].concat()).is(3).says("nobody in seasonal");
    world.run("authority export issuing --list --to list.crl").is(0);
    let list = world.judge("openssl crl -inform DER -in list.crl -noout -text").is(0).out;
    assert_eq!(list.matches("Cessation Of Operation").count(), 40);
    assert!(list.contains("CRL Number: \n                2"), "one list for all of them: {list}");
    world.run("estate history --verify").is(0);
}

#[test]
fn bad_tables_are_reported_by_line_and_import_nothing() {
    let world = World::estate();
    groups(&world);
    let before = world.everything();
    let long = "x".repeat(10_000_000);
    let cases: Vec<(String, i32, &str)> = vec![
        (
            "name,mail\nmara,mara@skerry.example\nmara,m@skerry.example\n".into(),
            3,
            "line 3: mara stands in line 2 already",
        ),
        ("name\nMara\n".into(), 3, "line 2: user name \"Mara\" cannot be used"),
        ("name,mail\nmara,nowhere\n".into(), 3, "line 2: \"nowhere\" is no mail address"),
        ("name,groups\nmara,pirates\n".into(), 3, "line 2: there is no group \"pirates\""),
        ("name,mail\nmara,a@b.example,more\n".into(), 3, "line 2: it has 3 fields, and the header 2"),
        (
            "name,about\nmara,\"two\nlines\"\ntomas,x\n".into(),
            3,
            "line 2: the field about is too long or more than one line",
        ),
        (format!("name,about\nmara,{long}\ntomas,engineer\n"), 3, "line 2: the field about has 10000000 bytes"),
        ("user,mail\nmara,a@b.example\n".into(), 2, "a column \"user\""),
        ("mail\na@b.example\n".into(), 2, "no column name"),
        ("name,name\na,b\n".into(), 2, "twice"),
        ("name,about\n\"mara,engineer\n".into(), 3, "line 2: "),
        (String::new(), 2, "no column name"),
    ];
    for (text, code, why) in cases {
        world.write("bad.csv", &text);
        world.run("user import bad.csv").is(code).says(why);
        assert_eq!(world.everything(), before, "{why}");
    }
    std::fs::write(world.path("bad.csv"), b"name,about\nmara,caf\xe9\n").unwrap();
    world.run("user import bad.csv").is(3).says("line 2: the field about is not UTF-8");
    std::fs::write(world.path("bad.csv"), b"\xff\xfen\0a\0m\0e\0").unwrap();
    world.run("user import bad.csv").is(2).says("UTF-16");
    // A byte-order mark, semicolons, quotes and CRLF are what spreadsheets write.
    let good = "\u{feff}Name;Mail;About;Groups\r\n\"mara\";mara@skerry.example;\"mate; \"\"first\"\"\";crew\r\n";
    world.write("good.csv", good);
    world.run("user import good.csv").is(0).says("imported 1 user and");
    world.run("user show mara").is(0).says("mate; \"first\"");
    world.write("mixed.csv", "name\ntomas\nBad Name\nines\n");
    world.run("user import mixed.csv").is(3).says("of 3 lines, 1 cannot be used");
    world.run("user import mixed.csv --skip-bad").is(4).says("line 3").says("imported 2 users");
}

#[test]
fn a_password_is_asked_for_twice_and_its_second_factor_is_shown_to_be_scanned() {
    use crate::common::terminal::Terminal;
    let world = mara();
    let issue = ["credential", "issue", "mara/phone", "--kind", "password", "--second-factor"];
    let mut terminal = Terminal::start(&world.command(&issue));
    terminal.sees("password of mara/phone: ");
    terminal.types("gravel lantern oyster ninety");
    terminal.sees("once more: ");
    terminal.types("gravel lantern oyster eighty");
    let (code, screen) = terminal.ends();
    assert!(code == 2 && screen.contains("the two passwords differ") && !screen.contains("oyster"), "{screen}");
    let mut terminal = Terminal::start(&world.command(&issue));
    for question in ["password of mara/phone: ", "once more: "] {
        terminal.sees(question);
        terminal.types("gravel lantern oyster ninety");
    }
    let (code, screen) = terminal.ends();
    assert!(code == 0 && screen.contains("mara.phone") && !screen.contains("oyster"), "{screen}");
    let terminal = Terminal::start(&world.command(&["credential", "handover", "mara/phone", "--yes"]));
    let (code, screen) = terminal.ends();
    assert!(code == 0 && screen.contains("otpauth://totp/skerry:mara.phone?secret="), "{screen}");
    // The code to scan is drawn, and what stands in it is no more than the line above it.
    assert!(screen.lines().filter(|line| line.contains('█')).count() > 10, "{screen}");
    assert!(!screen.contains("\npassword "), "the password was the person's own: {screen}");
}

#[test]
fn a_listeners_shared_secret_says_how_many_hold_it() {
    let world = World::harbour("--processes");
    world.run("credential issue harbour/quill --kind shared-secret").is(0);
    for device in ["mara/laptop", "tomas/tablet", "ines/phone"] {
        world.admit(device.split('/').next().unwrap(), device);
    }
    let all = world.run("credential list --kind shared-secret --format json").is(0).json();
    assert_eq!((&all[0]["name"], &all[0]["held_by"]), (&"harbour/quill 1".into(), &3.into()), "{all}");
    world
        .run("credential show harbour/quill --kind shared-secret")
        .is(0)
        .says("poor  holders")
        .says("whoever leaves takes it along");
    world.run("credential issue harbour/nothing --kind shared-secret").is(2).says("no listener");
    world.run("credential issue mara --kind shared-secret").is(2).says("SITE+SITE");
    world.run("credential renew harbour/quill --kind shared-secret --overlap soon").is(2);
    world.run("credential handover harbour/quill --kind shared-secret --to secret --yes").is(0);
    assert_eq!(world.read("secret").trim().len(), 39);
}
