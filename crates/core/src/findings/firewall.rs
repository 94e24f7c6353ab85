//! Other people's firewall rules on a host: what can drop what a gateway needs, what they let through, and the commands that mend it.

use std::collections::HashMap;

use serde::{Deserialize, Serialize};
use serde_json::Value;

use crate::firewall::{Protocol, Service, TABLE};

/// Which packets a chain of a firewall is asked about.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "lowercase")]
pub enum Hook {
    /// For the host itself.
    Input,
    /// Through the host.
    Forward,
}

/// What a rule lets through of everybody, before anything drops it.
#[derive(Debug, Clone, Copy, PartialEq, Eq, Serialize, Deserialize)]
#[serde(rename_all = "kebab-case")]
pub enum Passes {
    Everything,
    Ports {
        protocol: Protocol,
        first: u16,
        last: u16,
    },
    /// An IP protocol by its number.
    Ip(u8),
    /// What comes out of tunnels.
    FromTunnels,
    /// What goes into tunnels.
    IntoTunnels,
    /// What belongs to a flow that was let through before.
    Established,
}

/// A rule or policy of somebody else's firewall table that can drop what a gateway needs.
#[derive(Debug, Clone, PartialEq, Eq, Serialize, Deserialize)]
pub struct RuleInTheWay {
    /// `inet filter`.
    pub table: String,
    pub chain: String,
    pub hook: Hook,
    /// The policy or rule as nft prints it.
    pub rule: String,
    /// What rules before it let through.
    #[serde(default)]
    pub passes: Vec<Passes>,
}

impl RuleInTheWay {
    /// Whether what comes for a service gets past it.
    #[must_use]
    pub fn lets_in(&self, service: Service) -> bool {
        self.passes.iter().any(|passes| match (passes, service) {
            (Passes::Everything, _) => true,
            (Passes::Ports { protocol, first, last }, Service::Port(of, port)) => {
                *protocol == of && (*first..=*last).contains(&port)
            }
            (Passes::Ip(number), service) => *number == service.protocol_number(),
            _ => false,
        })
    }

    /// The commands, for a shell on the host, after which it is in nobody's way. None: it is in nobody's way. Without services, `PORT` stands
    /// for one that is not known yet.
    #[must_use]
    pub fn commands(&self, services: &[Service]) -> Vec<String> {
        let insert = |what: String| format!("nft insert rule {} {} {what} accept", self.table, self.chain);
        let has = |wanted: &[Passes]| self.passes.iter().any(|passes| wanted.contains(passes));
        match self.hook {
            Hook::Input if services.is_empty() => match has(&[Passes::Everything]) {
                true => Vec::new(),
                false => vec![insert("udp dport PORT".into())],
            },
            Hook::Input => {
                let shut = services.iter().filter(|service| !self.lets_in(**service));
                let matches = |service: &Service| match service {
                    Service::Port(protocol, port) => format!("{protocol} dport {port}"),
                    Service::Ip(number) => format!("meta l4proto {number}"),
                };
                shut.map(|service| insert(matches(service))).collect()
            }
            Hook::Forward => {
                let mut commands = Vec::new();
                if !has(&[Passes::Everything, Passes::FromTunnels]) {
                    commands.push(insert("iifname \"yestrel*\"".into()));
                }
                if !has(&[Passes::Everything, Passes::IntoTunnels, Passes::Established]) {
                    commands.push(insert("oifname \"yestrel*\"".into()));
                }
                commands
            }
        }
    }
}

fn text(value: &Value, key: &str) -> String {
    value.get(key).and_then(Value::as_str).unwrap_or_default().to_owned()
}

fn list<'a>(value: &'a Value, key: &str) -> &'a [Value] {
    value.get(key).and_then(Value::as_array).map(Vec::as_slice).unwrap_or_default()
}

/// Ports of the right side of a match: one, a range, or a set of both.
fn ports(right: &Value) -> Vec<(u16, u16)> {
    let number = |value: &Value| value.as_u64().and_then(|number| u16::try_from(number).ok());
    if let Some(port) = number(right) {
        return vec![(port, port)];
    }
    if let [first, last] = list(right, "range") {
        return number(first).zip(number(last)).into_iter().collect();
    }
    list(right, "set").iter().flat_map(ports).collect()
}

/// What one condition of a rule lets through, where it is one that is understood here.
fn passes_of(condition: &Value) -> Vec<Passes> {
    let (left, right) = (&condition["left"], &condition["right"]);
    if !matches!(condition["op"].as_str(), Some("==" | "in")) {
        return Vec::new();
    }
    let payload = &left["payload"];
    if payload["field"] == "dport" {
        let protocols: &[Protocol] = match payload["protocol"].as_str() {
            Some("udp") => &[Protocol::Udp],
            Some("tcp") => &[Protocol::Tcp],
            Some("th") => &[Protocol::Udp, Protocol::Tcp],
            _ => &[],
        };
        let of = |protocol: &Protocol| {
            let protocol = *protocol;
            ports(right).into_iter().map(move |(first, last)| Passes::Ports { protocol, first, last })
        };
        return protocols.iter().flat_map(of).collect();
    }
    let tunnels = right.as_str().is_some_and(|name| name.starts_with("yestrel"));
    let named = |word: &str| match word {
        "udp" => Some(17),
        "tcp" => Some(6),
        "esp" => Some(50),
        _ => None,
    };
    match left["meta"]["key"].as_str().or_else(|| left["ct"]["key"].as_str()) {
        Some("iifname") if tunnels => vec![Passes::FromTunnels],
        Some("oifname") if tunnels => vec![Passes::IntoTunnels],
        Some("l4proto") => {
            let number = right.as_u64().and_then(|number| u8::try_from(number).ok());
            number.or_else(|| right.as_str().and_then(named)).map(Passes::Ip).into_iter().collect()
        }
        Some("state") => {
            let words: Vec<_> = match right.as_str() {
                Some(one) => vec![one],
                None if right.is_array() => right.as_array().into_iter().flatten().filter_map(Value::as_str).collect(),
                None => list(right, "set").iter().filter_map(Value::as_str).collect(),
            };
            if words.contains(&"established") { vec![Passes::Established] } else { Vec::new() }
        }
        _ => Vec::new(),
    }
}

/// Whether a condition holds for whatever a gateway needs and another condition of the rule names: it narrows nothing then.
fn narrows_nothing(condition: &Value, others: &[Passes]) -> bool {
    let (left, right) = (&condition["left"], &condition["right"]);
    if !matches!(condition["op"].as_str(), Some("==" | "in")) {
        return false;
    }
    match left["meta"]["key"].as_str().or_else(|| left["ct"]["key"].as_str()) {
        // What comes for the first time is new, whatever else the rule takes.
        Some("state") => {
            right == "new"
                || right.as_array().is_some_and(|words| words.iter().any(|word| word == "new"))
                || list(right, "set").iter().any(|word| word == "new")
        }
        // The protocol of a port that is named beside it.
        Some("l4proto") => {
            let of = |protocol: Protocol| if protocol == Protocol::Udp { (17, "udp") } else { (6, "tcp") };
            others.iter().any(|passes| match passes {
                Passes::Ports { protocol, .. } => {
                    let (number, word) = of(*protocol);
                    right == word || right.as_u64() == Some(number)
                }
                _ => false,
            })
        }
        _ => left["fib"]["result"] == "type" && right == "local",
    }
}

/// What several conditions together let through: what one of them names, where the others narrow nothing.
fn passes_together(conditions: &[&Value]) -> Vec<Passes> {
    let named: Vec<_> = conditions.iter().map(|condition| passes_of(condition)).collect();
    for (at, passes) in named.iter().enumerate() {
        let others = conditions.iter().enumerate().filter(|(other, _)| *other != at);
        if !passes.is_empty() && others.clone().all(|(_, condition)| narrows_nothing(condition, passes)) {
            return passes.clone();
        }
    }
    Vec::new()
}

/// Chains of other tables that drop by policy or by a rule, on the hooks that a gateway needs, with what they let through before: from what
/// `nft -j list ruleset` says. A rule with conditions that are not understood here, or that narrow each other, lets nothing through.
#[must_use]
pub fn in_the_way(ruleset: &str) -> Vec<RuleInTheWay> {
    let Ok(root) = serde_json::from_str::<Value>(ruleset) else { return Vec::new() };
    let items = list(&root, "nftables");
    let mut found: Vec<RuleInTheWay> = Vec::new();
    // By chain: its hook, whether it drops what is left, and what it has let through so far.
    let mut chains: Vec<((String, String), Hook, bool)> = Vec::new();
    let mut passed: HashMap<(String, String), Vec<Passes>> = HashMap::new();
    for chain in items.iter().filter_map(|item| item.get("chain")) {
        let table = format!("{} {}", text(chain, "family"), text(chain, "table"));
        let hook = match text(chain, "hook").as_str() {
            "input" => Hook::Input,
            "forward" => Hook::Forward,
            _ => continue,
        };
        if table != TABLE && text(chain, "type") == "filter" {
            chains.push(((table, text(chain, "name")), hook, text(chain, "policy") == "drop"));
        }
    }
    for rule in items.iter().filter_map(|item| item.get("rule")) {
        let place = (format!("{} {}", text(rule, "family"), text(rule, "table")), text(rule, "chain"));
        let Some((_, hook, _)) = chains.iter().find(|(chain, ..)| *chain == place) else { continue };
        let expressions = list(rule, "expr");
        let ends = |what: &str| expressions.iter().any(|expression| expression.get(what).is_some());
        let conditions: Vec<_> = expressions.iter().filter_map(|expression| expression.get("match")).collect();
        let so_far = passed.entry(place.clone()).or_default();
        if ends("accept") {
            match conditions[..] {
                [] if expressions.iter().all(|one| ["accept", "counter"].iter().any(|key| one.get(key).is_some())) => {
                    so_far.push(Passes::Everything);
                }
                [condition] => so_far.extend(passes_of(condition)),
                _ => so_far.extend(passes_together(&conditions)),
            }
        } else if conditions.is_empty() && (ends("drop") || ends("reject")) {
            // Without a condition it ends everything that comes to it.
            let word = if ends("drop") { "drop" } else { "reject" };
            let (rule, passes) = (format!("a rule that does {word}"), so_far.clone());
            found.push(RuleInTheWay { table: place.0, chain: place.1, hook: *hook, rule, passes });
        }
    }
    let by_policy = chains.into_iter().filter(|(_, _, drops)| *drops).map(|((table, chain), hook, _)| {
        let passes = passed.remove(&(table.clone(), chain.clone())).unwrap_or_default();
        RuleInTheWay { table, chain, hook, rule: "policy drop".into(), passes }
    });
    let mut all: Vec<_> = by_policy.collect();
    all.extend(found);
    all
}

#[cfg(test)]
mod tests {
    use super::*;

    #[test]
    fn policies_and_final_rules_of_others_are_found_and_our_own_are_not() {
        let ruleset = r#"{"nftables":[
            {"chain":{"family":"inet","table":"filter","name":"input","type":"filter","hook":"input","policy":"drop"}},
            {"chain":{"family":"inet","table":"filter","name":"forward","type":"filter","hook":"forward","policy":"accept"}},
            {"chain":{"family":"inet","table":"yestrel","name":"pass","type":"filter","hook":"forward","policy":"drop"}},
            {"rule":{"family":"inet","table":"filter","chain":"forward","expr":[{"counter":{}},{"reject":null}]}},
            {"rule":{"family":"inet","table":"filter","chain":"forward","expr":[{"match":{}},{"drop":null}]}}]}"#;
        let found: Vec<_> = in_the_way(ruleset).into_iter().map(|rule| (rule.hook, rule.rule)).collect();
        assert_eq!(
            found,
            [(Hook::Input, "policy drop".to_owned()), (Hook::Forward, "a rule that does reject".to_owned())]
        );
    }

    /// One chain that drops by policy, with these rules before.
    fn dropping(hook: &str, rules: &[&str]) -> RuleInTheWay {
        let chain = format!(
            r#"{{"chain":{{"family":"inet","table":"filter","name":"x","type":"filter","hook":"{hook}","policy":"drop"}}}}"#
        );
        let rule =
            |expr: &&str| format!(r#"{{"rule":{{"family":"inet","table":"filter","chain":"x","expr":[{expr}]}}}}"#);
        let all: Vec<_> = std::iter::once(chain).chain(rules.iter().map(rule)).collect();
        in_the_way(&format!(r#"{{"nftables":[{}]}}"#, all.join(","))).remove(0)
    }

    fn matching(left: &str, right: &str, verdict: &str) -> String {
        format!(r#"{{"match":{{"op":"==","left":{left},"right":{right}}}}},{{"{verdict}":null}}"#)
    }

    #[test]
    fn conditions_that_narrow_nothing_let_through_what_the_other_names() {
        let port = r#"{"match":{"op":"==","left":{"payload":{"protocol":"udp","field":"dport"}},"right":23817}}"#;
        let condition = |left: &str, right: &str| format!(r#"{{"match":{{"op":"in","left":{left},"right":{right}}}}}"#);
        let state = |right: &str| condition(r#"{"ct":{"key":"state"}}"#, right);
        let proto = |right: &str| condition(r#"{"meta":{"key":"l4proto"}}"#, right);
        let lets = |conditions: &[&str]| {
            let rule = format!("{},{}", conditions.join(","), r#"{"counter":{}},{"accept":null}"#);
            dropping("input", &[&rule]).lets_in(Service::udp(23817))
        };
        assert!(lets(&[&state(r#""new""#), port]));
        assert!(lets(&[port, &state(r#"["new","established"]"#)]));
        assert!(lets(&[&state(r#"{"set":["new","related"]}"#), &proto(r#""udp""#), port]));
        assert!(lets(&[
            &proto("17"),
            port,
            &condition(r#"{"fib":{"result":"type","flags":["daddr"]}}"#, r#""local""#)
        ]));
        // What may keep out whoever comes from elsewhere is not counted on.
        assert!(!lets(&[&condition(r#"{"payload":{"protocol":"ip","field":"saddr"}}"#, r#""192.0.2.7""#), port]));
        assert!(!lets(&[&condition(r#"{"meta":{"key":"iifname"}}"#, r#""eth1""#), port]));
        assert!(!lets(&[&state(r#""established""#), port]));
        assert!(!lets(&[&proto(r#""tcp""#), port]));
    }

    #[test]
    fn what_is_let_in_before_is_not_in_the_way() {
        let udp = r#"{"payload":{"protocol":"udp","field":"dport"}}"#;
        let (mine, others) = (Service::udp(23817), Service::udp(4500));
        let open = |right: &str, verdict: &str| {
            let rule = dropping("input", &[&matching(udp, right, verdict)]);
            [mine, others].map(|service| rule.lets_in(service))
        };
        assert_eq!(open("23817", "accept"), [true, false]);
        assert_eq!(open(r#"{"range":[4000,5000]}"#, "accept"), [false, true]);
        assert_eq!(open(r#"{"set":[{"range":[4000,5000]},23817]}"#, "accept"), [true, true]);
        assert_eq!(open("23817", "drop"), [false, false]);
        assert_eq!(open("23817", "log"), [false, false]);
        let rule = dropping("input", &[r#"{"counter":{}},{"accept":null}"#]);
        assert_eq!(rule.commands(&[mine]), Vec::<String>::new());
        let esp = dropping("input", &[&matching(r#"{"meta":{"key":"l4proto"}}"#, "\"esp\"", "accept")]);
        assert!(esp.lets_in(Service::Ip(50)) && !esp.lets_in(mine));
        // What has a condition more may let in somebody, and not everybody.
        let two = format!(
            r#"{{"match":{{"op":"==","left":{{"payload":{{"protocol":"ip","field":"saddr"}}}},"right":"192.0.2.1"}}}},{}"#,
            matching(udp, "23817", "accept")
        );
        assert!(!dropping("input", &[&two]).lets_in(mine));
        // After a rule that drops everything nothing is let in.
        let late = dropping("input", &[r#"{"drop":null}"#, &matching(udp, "23817", "accept")]);
        assert!(late.lets_in(mine), "the policy itself is not reached by it");
        let ruleset = in_the_way(
            r#"{"nftables":[{"chain":{"family":"ip","table":"f","name":"i","type":"filter","hook":"input","policy":"accept"}},
               {"rule":{"family":"ip","table":"f","chain":"i","expr":[{"drop":null}]}},
               {"rule":{"family":"ip","table":"f","chain":"i","expr":[{"accept":null}]}}]}"#,
        );
        assert!(!ruleset[0].lets_in(mine));
    }

    #[test]
    fn both_ways_through_the_host_are_asked_for_until_they_are_open() {
        let name = |key: &str| matching(&format!(r#"{{"meta":{{"key":"{key}"}}}}"#), "\"yestrel*\"", "accept");
        let (from, into) = (name("iifname"), name("oifname"));
        let flows = matching(r#"{"ct":{"key":"state"}}"#, r#"["established","related"]"#, "accept").replace("==", "in");
        let wanted = |rules: &[&str]| dropping("forward", rules).commands(&[]);
        assert_eq!(
            wanted(&[]),
            [
                "nft insert rule inet filter x iifname \"yestrel*\" accept",
                "nft insert rule inet filter x oifname \"yestrel*\" accept"
            ]
        );
        assert_eq!(wanted(&[&from]), ["nft insert rule inet filter x oifname \"yestrel*\" accept"]);
        assert_eq!(wanted(&[&from, &into]), Vec::<String>::new());
        assert_eq!(wanted(&[&flows, &from]), Vec::<String>::new());
    }
}
