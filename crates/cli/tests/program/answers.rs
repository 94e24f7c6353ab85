//! No option loses an answer: what a command made is on standard output in every format, and a secret that is told once is told.

use crate::common::World;

#[test]
fn whatever_a_command_makes_is_its_answer_for_programs() {
    let mut world = World::empty();
    world.start_lab("--processes");
    let made = |words: &str| world.run(&format!("{words} --format json")).is(0).json();
    let estate = made("estate create skerry");
    assert_eq!((&estate["estate"], estate["recovery_key"].as_str().unwrap().len() > 40), (&"skerry".into(), true));
    assert_eq!(made("site add harbour --network 10.44.0.0/22")["networks"], serde_json::json!(["10.44.0.0/22"]));
    assert_eq!(made("host add harbour --site harbour --kind cloud --via lab")["kind"], "cloud");
    assert_eq!(made("gateway create harbour --host harbour --dialled gangway.skerry.example")["host"], "harbour");
    assert_eq!(made("listener open harbour --tunnel quill")["tunnel"], "quill");
    assert_eq!(made("group add crew")["group"], "crew");
    assert_eq!(made("user add mara --group crew")["user"], "mara");
    assert_eq!(made("device add mara/laptop")["device"], "mara/laptop");
    let authorities = made("authority create");
    assert_eq!((&authorities[0]["name"], &authorities[1]["name"]), (&"root".into(), &"issuing".into()));
    let issued = made("credential issue mara/laptop");
    assert_eq!((&issued["credential"], &issued["kind"]), (&"mara/laptop/1".into(), &"key-pair".into()));
    assert_eq!(made("credential issue --group crew --kind certificate --yes")[0]["credential"], "mara/laptop/2");
    assert_eq!(
        made("credential handover mara/laptop --kind key-pair --to laptop.yestrel --yes")["file"],
        "laptop.yestrel"
    );
    world.run("estate show --format csv").is(0);
}

#[test]
fn a_secret_that_is_told_once_is_told_whatever_was_asked_for() {
    let mut world = World::estate();
    world.start_lab("--processes");
    for words in [
        "site add harbour --network 10.44.0.0/22",
        "host add harbour --site harbour --kind cloud --via lab",
        "gateway create harbour --host harbour --dialled gangway.skerry.example",
        "authority create",
        "user add mara",
        "device add mara/phone",
        "device add mara/tablet",
        "device add mara/desk",
        "credential issue mara/phone --kind certificate",
        "credential issue mara/tablet --kind certificate",
        "credential issue mara/desk --kind certificate",
    ] {
        world.run(words).is(0);
    }
    let opens = |bundle: &str, password: &str| {
        world.write("pass", password);
        world.judge(&format!("openssl pkcs12 -in {bundle} -passin file:pass -noout")).is(0);
    };
    let quiet = world.run("credential handover mara/phone --to phone.p12 --yes --quiet").is(0);
    assert_eq!(quiet.out.lines().count(), 1, "the answer and no remarks: {quiet:#?}");
    opens("phone.p12", quiet.out.trim().rsplit("  ").next().unwrap());
    let json = world.run("credential handover mara/tablet --to tablet.p12 --yes --format json").is(0);
    let password = json.json()["transport_password"].as_str().unwrap().to_owned();
    opens("tablet.p12", &password);
    assert!(!json.err.contains(&password), "once, and not beside: {json:#?}");
    let csv = world.run("credential handover mara/desk --to desk.p12 --yes --quiet --format csv").is(0);
    let (names, values) = csv.out.trim().split_once('\n').unwrap();
    let at = names.trim().split(',').position(|name| name == "transport_password").unwrap();
    opens("desk.p12", values.trim().split(',').nth(at).unwrap());

    world.run("credential issue mara/phone --kind password --generate --second-factor").is(0);
    let told = world.run("credential handover mara/phone --kind password --yes --quiet --format json").is(0).json();
    world.write("password", told["password"].as_str().unwrap());
    assert!(told["second_factor"].as_str().unwrap().starts_with("otpauth://"), "{told:#?}");
    world.run("registry try mara.phone --password-file password").is(3).says("code");
}
