//! Gateways and listeners under other names: whoever is in stays in, and everything that names them goes along.

use crate::common::{World, wait};

/// The number of the only session that is up, and at which listener it is.
fn session(world: &World) -> (u64, String) {
    let all = world.run("session list --format json").is(0).json();
    assert_eq!(all.as_array().map(Vec::len), Some(1), "{all}");
    (all[0]["number"].as_u64().unwrap_or_default(), all[0]["gateway"].as_str().unwrap_or_default().to_owned())
}

#[test]
fn a_gateway_and_a_listener_are_called_something_else_and_nobody_is_thrown_out() {
    let world = World::mara("--processes");
    world.run("device add mara/phone").is(0);
    world.run("credential issue mara/phone").is(0);
    world.admit("tomas", "tomas/tablet");
    world.run("credential revoke tomas/tablet --reason lost --yes").is(0);
    world.run("rollout --yes").is(0);
    world.on_laptop("yestrel connect mara.yestrel --background --proxy 127.0.0.1:0").is(0);
    wait(10, "mara is in", || world.run("session list").out.contains("mara/laptop").then_some(()));
    let before = session(&world);
    assert_eq!(before.1, "harbour");
    for bad in ["harbour harbour", "harbour Pier", "harbour pier/quill", "ferry pier"] {
        assert!(world.run(&format!("gateway rename {bad}")).code > 1, "{bad}");
    }
    world.run("listener rename harbour/quill ferry/quill").is(3).says("yestrel listener open ferry");
    world.run("listener rename harbour/quill quill").is(2).says("already");
    world.run("listener rename harbour quill").is(2);
    world.run("gateway rename harbour pier").is(0).says("yestrel rollout");
    world.run("gateway show harbour").is(2);
    let preview = world.run("rollout --preview --all").is(0);
    let preview =
        preview.says("rename  the gateway harbour -> pier").says("rename  listener harbour/quill -> pier/quill");
    for other in ["withdraw", "admit", "remove", "ports", "change"] {
        assert!(!preview.out.contains(&format!("  {other} ")), "{other}: {}", preview.out);
    }
    world.run("rollout --yes").is(0).says("done                0");
    assert_eq!(session(&world), (before.0, "pier".into()), "the same session");
    assert_eq!(world.on_laptop("yestrel tunnel list --format json").json()[0]["state"], "up");
    world.run("gateway list").is(0).says("pier");
    world.run("status").is(0);
    world.run("rollout --preview").is(0).says("nothing to do");
    // Secrets that are sealed by a name still open, at both ends.
    world.run("credential handover mara/phone --to phone.yestrel --yes").is(0);
    assert!(world.read("phone.yestrel").contains("gateway = \"pier\""));
    // A listener by itself, twice, and an amendment right after it.
    world.run("listener rename pier/quill first").is(0);
    world.run("listener rename pier/first pier/crew").is(0);
    world.run("rollout --yes").is(0).says("rename  listener pier/quill -> pier/crew");
    world.run("user suspend tomas --yes").is(0);
    assert_eq!(session(&world).0, before.0);
    world.run("credential show mara/laptop").is(0).says("pier/crew");
    world.run("credential show tomas/tablet --format json").is(0).says("pier/crew");
    // Its agent knows itself by the new name also when it begins anew, and devices come in by what they were handed.
    world.run("gateway restart pier").is(0);
    wait(20, "mara is in again", || (world.run("session list").out.contains("mara/laptop")).then_some(()));
    world.run("session list pier --past").is(0).says("mara/laptop");
    world.run("credential notice --all --to notices").says("no device needs");
    world.run("credential revoke mara/laptop --reason lost --yes").is(0);
    wait(10, "the session ends", || (!world.run("session list").out.contains("laptop")).then_some(()));
    world.run("estate history --verify").is(0);
    // The name is free, and another gateway of that name is another.
    world.run("site add ferry").is(0);
    world.run("host add breakwater --site ferry --kind computer --via lab").is(0);
    world.run("gateway create harbour --host breakwater --dialled 203.0.113.11").is(0);
    world.run("listener open harbour").is(0);
    world.run("gateway rename pier harbour").is(3).says("already");
    world.run("rollout --yes").is(0);
    world.run("gateway list").is(0).says("harbour").says("pier");
}

#[test]
fn a_rename_waits_for_its_agent_and_keeps_nobody_from_anything_meanwhile() {
    let world = World::mara("--processes");
    world.admit("tomas", "tomas/tablet");
    world.run("rollout --yes").is(0);
    world.on_laptop("yestrel connect mara.yestrel --background --proxy 127.0.0.1:0").is(0);
    wait(10, "mara is in", || world.run("session list").out.contains("mara/laptop").then_some(()));
    let before = session(&world);
    world.run("gateway rename harbour pier").is(0);
    world.run("listener rename pier/quill crew").is(0);
    // It is known to be that gateway before it has heard of its name.
    world.run("gateway list").is(0).says("pier").says("behind");
    world.run("gateway show pier").is(0).says("up");
    let seen = world.run("status");
    assert!(
        !seen.out.contains("another") && !seen.out.contains("is shut") && seen.out.contains("mara/laptop"),
        "{seen:?}"
    );
    world.run("port list").is(0).says("open");
    world.run("session list").is(0).says("mara/laptop");
    // What is taken back or given before anybody rolls out arrives, and the name with it.
    world.run("credential handover tomas/tablet --to tablet.yestrel --yes").is(0);
    world.run("user suspend tomas --yes").is(0).says("withdraw tomas/tablet");
    world.run("user restore tomas").is(0).says("admit   tomas/tablet");
    world.run("rollout --preview").is(0).says("nothing to do");
    assert_eq!(session(&world), (before.0, "pier".into()));
    // With another port beside it is still a rename; what that ends is known by the name that the agent has.
    world.run("listener rename pier/crew quill").is(0);
    world.run("listener change pier/quill --port 24817 --yes").is(0).says("ends 1 session, of mara/laptop");
    let both = world.run("rollout --yes").is(0).says("rename  listener pier/crew -> pier/quill").says("port ");
    assert!(!both.out.contains("  remove ") && both.out.contains("  end     1 session, of mara/laptop"), "{both:?}");
    assert!(both.out.lines().last().is_some_and(|line| line.contains("               1  -")), "{both:?}");
    wait(20, "mara is in again", || world.run("session list").out.contains("mara/laptop").then_some(()));
    let before = session(&world);
    // Where it does not answer, it goes on by its old name until it does.
    world.run("lab break harbour").is(0);
    world.run("gateway rename pier quay").is(0);
    world.run("rollout --yes").is(4);
    world.run("gateway rename quay breakwater").is(0);
    world.run("lab mend harbour").is(0);
    world.run("rollout --yes").is(0);
    assert_eq!(session(&world), (before.0, "breakwater".into()));
    world.run("credential revoke mara/laptop --reason lost --yes").is(0);
    wait(10, "the session ends", || (!world.run("session list").out.contains("laptop")).then_some(()));
    // Back, before anybody has seen it: the secrets went along, so that it is no undoing but another rename.
    world.run("gateway rename breakwater harbour").is(0);
    world.run("estate undo --yes").is(3).says("cannot be taken back");
    world.run("gateway rename harbour breakwater").is(0);
    world.run("rollout --preview").is(0).says("nothing to do");
}
