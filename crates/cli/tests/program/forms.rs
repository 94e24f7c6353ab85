//! Handovers for what systems have built in agree with the listener, and the lab's phone dials with nothing but them.

use crate::common::{World, wait};

/// Harbour with a listener for built-in clients, in the lab or, where nobody dials, without one.
fn harbour(lab: bool, listener: &str) -> World {
    let mut world = World::estate();
    world.start_lab(if lab { "--namespaces" } else { "--processes" });
    world.run("site add harbour --network 10.44.0.0/22").is(0);
    world.run("host add harbour --site harbour --kind cloud --via lab").is(0);
    world.run("gateway create harbour --host harbour --dialled gangway.skerry.example").is(0);
    world.run("authority create").is(0);
    world.run("registry change estate --method password --method ms-chap-v2").is(0);
    world.run(&format!("listener open harbour --tunnel ikev2 {listener}")).is(0);
    world.run("user add mara").is(0);
    for device in ["phone", "tablet", "desk"] {
        world.run(&format!("device add mara/{device}")).is(0);
    }
    world
}

/// A profile as what it holds, by an independent reader.
fn profile(world: &World, name: &str) -> serde_json::Value {
    world.run("authority export root --to above.pem").is(0);
    let script = format!(
        "openssl cms -verify -inform DER -in {name} -CAfile above.pem -out list.plist 2>/dev/null && rm above.pem && python3 - <<'P'
import plistlib, json
p = plistlib.load(open('list.plist', 'rb'))
print(json.dumps(p, default=lambda raw: raw.hex()))
P"
    );
    world.judge(&script).is(0).json()
}

fn connection(list: &serde_json::Value) -> serde_json::Value {
    let all = list["PayloadContent"].as_array().unwrap();
    all.iter().find(|one| one["PayloadType"] == "com.apple.vpn.managed").unwrap().clone()
}

#[test]
fn an_account_is_handed_over_in_the_forms_that_systems_take() {
    let world = harbour(false, "--accounts --resolvers 10.44.0.20 --domains skerry.example");
    world.run("credential issue mara/phone --kind password --generate").is(0);
    let before = world.everything();
    world.run("credential handover mara/phone --as pkcs12 --to phone.p12 --yes").is(2).says("is for certificates");
    world.run("credential handover mara/phone --as pem --to phone --yes").is(2).says("is for certificates");
    assert_eq!(world.everything(), before, "nothing of it is left, and nothing is told");

    // Where the password is not in it, it is told apart; where it is, it is told with it, once.
    let came = world.run("credential handover mara/phone --as windows --to phone.ps1 --yes").is(0);
    assert!(came.out.contains("its password is not in it") && !came.out.contains("transport password"), "{came:#?}");
    let script = world.read("phone.ps1");
    for part in [
        "-AuthenticationMethod Eap -EapConfigXmlStream (New-EapConfiguration).EapConfigXmlStream",
        "-DHGroup ECP256 -PfsGroup ECP256 -Force",
        "-DestinationPrefix '10.44.0.0/22'",
        "sign in as mara.phone",
    ] {
        assert!(script.contains(part), "{part} is not in {script}");
    }
    assert!(!script.contains("Import-PfxCertificate") && !script.contains("MachineCertificate"), "{script}");
    world.run("credential handover mara/phone --as android --to phone.zip").is(0);
    let steps = world.judge("unzip -p phone.zip steps.txt; unzip -l phone.zip").is(0).out;
    assert!(steps.contains("IKEv2/IPSec MSCHAPv2") && steps.contains("Username: mara.phone"), "{steps}");
    assert!(steps.contains("authority.crt") && !steps.contains(".p12"), "{steps}");

    world.run("credential handover mara/phone --as apple --to phone.mobileconfig --yes").is(0);
    let list = profile(&world, "phone.mobileconfig");
    let ike = &connection(&list)["IKEv2"];
    assert_eq!((&ike["AuthenticationMethod"], &ike["AuthName"]), (&"None".into(), &"mara.phone".into()));
    assert_eq!(ike["ExtendedAuthEnabled"], 1);
    let password = ike["AuthPassword"].as_str().unwrap().to_owned();
    world.write("password", &password);
    world.run("registry try mara.phone --password-file password").is(0);
    assert!(ike.get("PayloadCertificateUUID").is_none());
    // Once more, and it is not in it any more; nor told by the other way.
    world.run("credential handover mara/phone --as apple --to again.mobileconfig").is(0);
    let again = profile(&world, "again.mobileconfig");
    assert!(connection(&again)["IKEv2"].get("AuthPassword").is_none());
    world.run("credential handover mara/phone --kind password --yes").is(3).says("no second copy");
    let page = world.read("again.mobileconfig.steps.txt");
    assert!(page.contains("It asks for the password of the account") && page.contains("hold no secret"), "{page}");
    for page in ["phone.ps1.steps.txt", "phone.mobileconfig.steps.txt", "again.mobileconfig.steps.txt"] {
        assert!(!world.read(page).contains(&password), "{page}");
    }
}

#[test]
fn rules_for_connecting_by_itself_follow_the_listener() {
    let world = harbour(false, "--resolvers 10.44.0.20 --domains skerry.example");
    let handed = |number: u8, more: &str| {
        let name = format!("{number}.mobileconfig");
        let command = format!("credential handover mara/phone/{number} --as apple --to {name} --yes {more}");
        let came = world.run(&command).is(0);
        (connection(&profile(&world, &name)), came.err)
    };
    world.run("credential issue mara/phone --kind certificate").is(0);
    let (own, _) = handed(1, "");
    assert_eq!(
        (&own["IKEv2"]["OnDemandEnabled"], &own["IKEv2"]["OnDemandRules"][0]["Action"]),
        (&0.into(), &"EvaluateConnection".into())
    );
    let needed = &own["IKEv2"]["OnDemandRules"][0]["ActionParameters"][0];
    assert_eq!(needed["Domains"], serde_json::json!(["skerry.example"]));
    assert_eq!(needed["DomainAction"], "ConnectIfNeeded");
    assert_eq!(
        own["DNS"],
        serde_json::json!({ "ServerAddresses": ["10.44.0.20"], "SupplementalMatchDomains": ["skerry.example"] })
    );
    world.run("credential renew mara/phone").is(0);
    let (own, said) = handed(2, "--on-demand");
    assert_eq!(own["IKEv2"]["OnDemandEnabled"], 1);
    assert!(!said.contains("by itself"), "{said}");
    assert!(world.read("2.mobileconfig.steps.txt").contains("connects by itself"));
    world.run("listener change harbour/ikev2 --reach everything").is(0);
    world.run("credential renew mara/phone").is(0);
    assert_eq!(handed(3, "--on-demand").0["IKEv2"]["OnDemandRules"], serde_json::json!([{ "Action": "Connect" }]));
    world.run("listener change harbour/ikev2 --reach site --domains none").is(0);
    world.run("credential renew mara/phone").is(0);
    let (own, said) = handed(4, "--on-demand");
    assert!(own["IKEv2"].get("OnDemandRules").is_none() && own.get("DNS").is_none(), "{own:#?}");
    assert!(said.contains("nothing says when to connect by itself"), "{said}");
    world.run("credential renew mara/phone").is(0);
    world
        .run("credential handover mara/phone/5 --as windows --to phone.ps1 --yes --on-demand")
        .is(0)
        .says("only Apple's");
    world.run("credential handover mara/phone --on-demand").is(2);
}

#[test]
fn a_change_that_makes_a_form_stale_is_known() {
    let world = harbour(false, "--resolvers 10.44.0.20 --domains skerry.example");
    let stale =
        |which: &str| world.run(&format!("credential show {which} --format json")).is(0).json()["stale"].to_string();
    for (device, form) in [("phone", "apple"), ("desk", "windows"), ("tablet", "pkcs12")] {
        world.run(&format!("credential issue mara/{device} --kind certificate")).is(0);
        world.run(&format!("credential handover mara/{device} --as {form} --to {device} --yes")).is(0);
        assert_eq!(stale(&format!("mara/{device}/1")), "[]", "{form}");
    }
    world.run("listener change harbour/ikev2 --reach 10.44.0.0/22,10.45.0.0/24").is(0);
    assert!(stale("mara/desk/1").contains("does not send 10.45.0.0/24"), "{}", stale("mara/desk/1"));
    assert_eq!((stale("mara/phone/1"), stale("mara/tablet/1")), ("[]".into(), "[]".into()), "they ask the gateway");
    world.run("listener change harbour/ikev2 --resolvers 10.44.0.21").is(0);
    assert!(stale("mara/phone/1").contains("asks resolvers that are not the listener's any more"));
    world.run("gateway change harbour --dialled pier.skerry.example").is(0);
    assert!(stale("mara/phone/1").contains("dials gangway.skerry.example, which is now pier.skerry.example"));
    assert_eq!(stale("mara/tablet/1"), "[]", "a bundle dials nobody");
    world.run("listener close harbour/ikev2 --yes").is(0);
    assert!(stale("mara/desk/1").contains("harbour/ikev2 is closed"));
}

/// Nothing but the file and what was told beside it; from behind two routers that translate.
#[test]
fn a_phone_comes_in_with_what_it_was_given_and_with_nothing_else() {
    let world = harbour(true, "--accounts --resolvers 10.44.0.20 --domains skerry.example");
    world.run("credential issue mara/phone --kind certificate").is(0);
    world.run("rollout --yes").is(0);
    let came = world.run("credential handover mara/phone --as apple --to phone.mobileconfig --yes").is(0);
    world.write("transport", came.out.lines().last().unwrap().rsplit("  ").next().unwrap());
    world.write("wrong", "aaaa-aaaa-aaaa-aaaa");
    let dial =
        |file: &str, transport: &str| world.run(&format!("lab dial mara-phone {file} --transport-file {transport}"));
    dial("phone.mobileconfig", "wrong").is(3).says("does not open the key in this profile");
    dial("transport", "transport").is(2).says("no signed message");
    let mut altered = std::fs::read(world.path("phone.mobileconfig")).unwrap();
    let at = altered.windows(7).position(|seven| seven == b"gangway").unwrap();
    altered[at] = b'h';
    std::fs::write(world.path("altered"), altered).unwrap();
    dial("altered", "transport").is(2).says("over another text");

    let up = dial("phone.mobileconfig", "transport").is(0);
    assert!(up.out.contains("mara/phone is in at harbour") && up.out.contains("names in skerry.example"), "{up:#?}");
    world.run("lab fetch mara-phone http://tickets.skerry.example/").is(0).says("seats left");
    let on_phone = |words: &str| world.run(&format!("lab enter mara-phone -- yestrel tunnel {words}"));
    on_phone("prove --reach 10.44.0.20:80").is(0);
    dial("phone.mobileconfig", "transport").is(3).says("there is a tunnel phone");
    wait(5, "both ends count the same", || {
        let here = on_phone("list --format json").is(0).json();
        let there = world.run("session list --format json").is(0).json();
        let from = there[0]["from"].as_str()?.starts_with("198.51.100.23:");
        (from && there[0]["received"] == here[0]["sent"]).then_some(())
    });
    on_phone("stop phone").is(0);
    wait(5, "the gateway heard the goodbye", || {
        let past = world.run("session list --past --format json").is(0).json();
        (past[0]["reason"] == "closed").then_some(())
    });
    // A profile of the same name by an authority of somebody else: the phone does not believe the gateway.
    for words in [
        "estate create other --estate other",
        "site add elsewhere --network 10.99.0.0/24 --estate other",
        "host add breakwater --site elsewhere --kind cloud --via lab --estate other",
        "gateway create elsewhere --host breakwater --dialled gangway.skerry.example --estate other",
        "authority create --estate other",
        "registry change estate --method password --method ms-chap-v2 --estate other",
        "listener open elsewhere --tunnel ikev2 --accounts --estate other",
        "user add mara --estate other",
        "device add mara/phone --estate other",
        "credential issue mara/phone --kind password --generate --estate other",
    ] {
        world.run(words).is(0);
    }
    world.run("credential handover mara/phone --as apple --to other.mobileconfig --yes --estate other").is(0);
    dial("other.mobileconfig", "transport").is(1).says("no authority of the profile signed the gateway's certificate");
    // And with a certificate of that authority the gateway does not let it in.
    world.run("credential issue mara/phone --kind certificate --estate other").is(0);
    let more = "--kind certificate --as apple --to third.mobileconfig --yes --estate other";
    let came = world.run(&format!("credential handover mara/phone {more}")).is(0);
    world.write("transport", came.out.lines().last().unwrap().rsplit("  ").next().unwrap());
    dial("third.mobileconfig", "transport").is(1).says("the other end does not let it in");
    let refused = world.run("session list --past --refused").is(0).out;
    assert!(refused.contains("no authority of this estate"), "{refused}");
}
