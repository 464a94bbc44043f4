//! The packet filter's rules as `nft -j list ruleset` prints them.

use std::net::Ipv4Addr;

use mostra_core::preflight::{
    Condition, FilterChain, FilterRule, FilterVerdict, Firewall, Protocol,
};
use serde_json::Value;

/// Rules read at most.
const RULES: usize = 20_000;

/// Reads a rule set; `None` where it is none. What is not understood stays as such.
pub(super) fn read(text: &str, manager: Option<String>) -> Option<Firewall> {
    let whole: Value = serde_json::from_str(text).ok()?;
    let mut chains: Vec<(String, FilterChain)> = Vec::new();
    let mut rules = 0;
    for object in whole.get("nftables")?.as_array()? {
        if let Some(chain) = object.get("chain") {
            // Of other families are bridges and IPv6, by which no device comes here.
            let family = chain["family"].as_str().unwrap_or_default();
            if !matches!(family, "ip" | "inet") {
                continue;
            }
            let input = (chain["hook"] == "input" && chain["type"] == "filter")
                .then(|| i32::try_from(chain["prio"].as_i64().unwrap_or(0)).unwrap_or(0));
            let read = FilterChain {
                table: format!("{family} {}", chain["table"].as_str().unwrap_or_default()),
                name: chain["name"].as_str().unwrap_or_default().to_owned(),
                input,
                accepts: chain["policy"].as_str() != Some("drop"),
                rules: Vec::new(),
            };
            chains.push((read.table.clone(), read));
        } else if let Some(rule) = object.get("rule") {
            rules += 1;
            if rules > RULES {
                return None;
            }
            let family = rule["family"].as_str().unwrap_or_default();
            let table = format!("{family} {}", rule["table"].as_str().unwrap_or_default());
            let name = rule["chain"].as_str().unwrap_or_default();
            let chain = chains.iter_mut().find(|(t, chain)| *t == table && chain.name == name);
            if let (Some((_, chain)), Some(parts)) = (chain, rule["expr"].as_array()) {
                chain.rules.extend(read_rule(parts));
            }
        }
    }
    let chains = chains.into_iter().map(|(_, chain)| chain).collect();
    Some(Firewall { manager, chains, older: false })
}

fn read_rule(parts: &[Value]) -> Vec<FilterRule> {
    let mut conditions = Vec::new();
    let mut verdicts = Vec::new();
    for part in parts {
        let Some((name, value)) = part.as_object().and_then(|part| part.iter().next()) else {
            conditions.push(Condition::Other);
            continue;
        };
        let target = || value["target"].as_str().unwrap_or_default().to_owned();
        match name.as_str() {
            "match" => conditions.push(read_match(value)),
            "accept" => verdicts.push(FilterVerdict::Accept),
            "drop" | "reject" => verdicts.push(FilterVerdict::Drop),
            "jump" => verdicts.push(FilterVerdict::Jump(target())),
            "goto" => verdicts.push(FilterVerdict::GoTo(target())),
            "return" => verdicts.push(FilterVerdict::Return),
            "counter" | "log" | "mangle" | "comment" => {}
            // A map of verdicts, an extension of iptables: it may let in, and it may not.
            "vmap" | "xt" => {
                conditions.push(Condition::Other);
                verdicts.extend([FilterVerdict::Accept, FilterVerdict::Drop]);
            }
            _ => conditions.push(Condition::Other),
        }
    }
    if verdicts.is_empty() {
        verdicts.push(FilterVerdict::Continue);
    }
    let rule = |verdict| FilterRule { conditions: conditions.clone(), verdict };
    verdicts.into_iter().map(rule).collect()
}

fn read_match(value: &Value) -> Condition {
    let (left, right) = (&value["left"], &value["right"]);
    let payload = &left["payload"];
    let field = (payload["protocol"].as_str(), payload["field"].as_str());
    let condition = match (left["meta"]["key"].as_str(), field) {
        (Some("iifname" | "iif"), _) => texts(right).map(Condition::Interface),
        (Some("l4proto"), _) => texts(right).map(Condition::ProtocolIs),
        (_, (Some("ip"), Some("protocol"))) => texts(right).map(Condition::ProtocolIs),
        (_, (Some("ip"), Some("saddr"))) => networks(right).map(Condition::From),
        (_, (Some("ip"), Some("daddr"))) => networks(right).map(Condition::To),
        (_, (Some("tcp"), Some("dport"))) => {
            ports(right).map(|ports| Condition::Port(Protocol::Tcp, ports))
        }
        (_, (Some("udp"), Some("dport"))) => {
            ports(right).map(|ports| Condition::Port(Protocol::Udp, ports))
        }
        _ if left["ct"]["key"] == "state" => texts(right).map(Condition::State),
        _ => None,
    };
    match (condition, value["op"].as_str()) {
        (Some(condition), Some("==" | "in") | None) => condition,
        (Some(condition), Some("!=")) => Condition::Not(Box::new(condition)),
        _ => Condition::Other,
    }
}

/// The members of a set, or the one value.
fn members(value: &Value) -> Vec<&Value> {
    match (value.get("set").and_then(Value::as_array), value.as_array()) {
        (Some(set), _) | (None, Some(set)) => set.iter().collect(),
        (None, None) => vec![value],
    }
}

fn texts(value: &Value) -> Option<Vec<String>> {
    let text = |value: &Value| value.as_str().filter(|t| !t.starts_with('@')).map(str::to_owned);
    members(value).into_iter().map(text).collect()
}

fn ports(value: &Value) -> Option<Vec<(u16, u16)>> {
    let number = |value: &Value| value.as_u64().and_then(|port| u16::try_from(port).ok());
    let range = |value: &Value| match value.get("range").and_then(Value::as_array) {
        Some(range) => Some((number(range.first()?)?, number(range.get(1)?)?)),
        None => number(value).map(|port| (port, port)),
    };
    members(value).into_iter().map(range).collect()
}

fn networks(value: &Value) -> Option<Vec<(Ipv4Addr, u8)>> {
    let network = |value: &Value| match value.get("prefix") {
        Some(prefix) => {
            let address = prefix["addr"].as_str()?.parse().ok()?;
            let length = u8::try_from(prefix["len"].as_u64()?).ok().filter(|bits| *bits <= 32);
            Some((address, length?))
        }
        None => Some((value.as_str()?.parse().ok()?, 32)),
    };
    members(value).into_iter().map(network).collect()
}

#[cfg(test)]
mod tests {
    use super::*;
    use mostra_core::preflight::{Packet, Ruling};

    const RULES: &str = r#"{"nftables": [
        {"metainfo": {"version": "1.0.6"}},
        {"table": {"family": "inet", "name": "filter", "handle": 1}},
        {"chain": {"family": "inet", "table": "filter", "name": "input", "handle": 1,
            "type": "filter", "hook": "input", "prio": 0, "policy": "drop"}},
        {"chain": {"family": "inet", "table": "filter", "name": "lan", "handle": 2}},
        {"rule": {"family": "inet", "table": "filter", "chain": "input", "expr": [
            {"match": {"op": "in", "left": {"ct": {"key": "state"}},
                "right": ["established", "related"]}}, {"accept": null}]}},
        {"rule": {"family": "inet", "table": "filter", "chain": "input", "expr": [
            {"match": {"op": "==", "left": {"meta": {"key": "iifname"}}, "right": "lan0"}},
            {"match": {"op": "==", "left": {"payload": {"protocol": "ip", "field": "saddr"}},
                "right": {"prefix": {"addr": "192.0.2.0", "len": 24}}}},
            {"counter": {"packets": 0, "bytes": 0}}, {"jump": {"target": "lan"}}]}},
        {"rule": {"family": "inet", "table": "filter", "chain": "lan", "expr": [
            {"match": {"op": "==", "left": {"payload": {"protocol": "tcp", "field": "dport"}},
                "right": {"set": [22, {"range": [7640, 7642]}]}}}, {"accept": null}]}},
        {"rule": {"family": "inet", "table": "filter", "chain": "lan", "expr": [
            {"match": {"op": "!=", "left": {"payload": {"protocol": "udp", "field": "dport"}},
                "right": 1900}}, {"limit": {"rate": 10}}, {"drop": null}]}}
    ]}"#;

    #[test]
    fn a_rule_set_is_read_and_decides_as_it_says() {
        let firewall = read(RULES, None).unwrap();
        let ruling = |interface, port| {
            firewall.rule_on(&Packet {
                interface,
                source: Ipv4Addr::new(192, 0, 2, 9),
                destination: Ipv4Addr::new(192, 0, 2, 5),
                protocol: Protocol::Tcp,
                port,
            })
        };
        assert_eq!(ruling("lan0", 7640), Ruling::Accepted);
        assert_eq!(ruling("lan0", 7643), Ruling::Dropped);
        assert_eq!(ruling("wan0", 7640), Ruling::Dropped);
    }

    #[test]
    fn what_is_not_understood_stays_so_and_nonsense_is_none() {
        let other = serde_json::json!([{"match": {"op": "==", "left": {"fib": 1}, "right": 2}}, {"accept": null}]);
        let rules = read_rule(other.as_array().unwrap());
        assert_eq!(rules[0].conditions, [Condition::Other]);
        let named =
            serde_json::json!({"op": "==", "left": {"meta": {"key": "iifname"}}, "right": "@lan"});
        assert_eq!(read_match(&named), Condition::Other);
        assert!(read("x", None).is_none() && read("{}", None).is_none());
        assert!(read("{\"nftables\": []}", None).unwrap().chains.is_empty());
    }
}
