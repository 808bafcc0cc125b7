//! The nodes of a bench file.

use deep_tap_core::line::Level;
use deep_tap_core::quantity::{Time, Voltage};
use deep_tap_core::reader::{Placed, Section};
use deep_tap_core::suggest;

use crate::board::composed::Nodes;
use crate::board::{Change, NodeId};
use crate::electric::{Shape, Slope};
use crate::instant::Instant;

/// A node as written.
struct FileNode {
    name: Placed<String>,
    shape: Shape,
    rests: Change,
    output: Option<Placed<u32>>,
    /// The node that it follows, and how much later.
    follows: Option<(Placed<String>, Instant)>,
}

impl FileNode {
    fn read(section: &Section<'_>) -> Option<Self> {
        let name = section.required("name", "name = \"CLK\"");
        let volts = |key| section.parsed::<Voltage>(key).map(|volts| volts.value.to_f64());
        let time = |key| section.parsed::<Time>(key).map(|time| Instant::after(time.value));
        // Straight edges, or the time constant of a resistor and a capacitor.
        let slope = |straight, curved| match (time(straight), time(curved)) {
            (_, Some(constant)) => Slope::Rc(constant),
            (Some(whole), None) => Slope::Ramp(whole),
            (None, None) => Slope::Step,
        };
        let (low, high) = (volts("low"), volts("high"));
        let shape = Shape {
            low: low.unwrap_or(Shape::LOGIC_3V3.low),
            high: high.unwrap_or(Shape::LOGIC_3V3.high),
            rise: slope("rise", "rise-rc"),
            fall: slope("fall", "fall-rc"),
        };
        let analog = section.flag("analog").unwrap_or(false);
        let rests_high = section.flag("rests-high").unwrap_or(false);
        let rests = match analog {
            true if rests_high => Change::Volts(shape.high),
            true => Change::Volts(low.unwrap_or(0.0)),
            false => Change::Level(Level::from(rests_high)),
        };
        let output = section.within("output", 0..=u32::MAX);
        let after = time("after").unwrap_or_default();
        let follows = section.text("follows").map(|leader| (leader, after));
        section.finish();
        Some(FileNode { name: name?, shape, rests, output, follows })
    }
}

/// The nodes, and how they hang together.
pub(super) fn read_nodes(top: &Section<'_>) -> Nodes {
    top.must_have("node", "node = [{ name = \"CLK\" }]");
    let sections = top.sections("node", "name");
    let nodes: Vec<FileNode> = sections.iter().filter_map(FileNode::read).collect();
    for (number, node) in nodes.iter().enumerate() {
        if nodes[..number].iter().any(|other| other.name.value == node.name.value) {
            let message = format!("two nodes are called '{}'", node.name.value);
            top.refuse(&node.name.place, message, "rename one");
        }
    }
    let names: Vec<String> = nodes.iter().map(|node| node.name.value.clone()).collect();
    let mut followers = Vec::new();
    for (number, node) in nodes.iter().enumerate() {
        if let Some((leader, after)) = &node.follows {
            followers.extend(named(top, &names, leader).map(|leader| (leader, NodeId(number), *after)));
        }
    }
    Nodes {
        outputs: outputs(top, &nodes),
        shapes: nodes.iter().map(|node| node.shape).collect(),
        rests: nodes.iter().map(|node| node.rests).collect(),
        names,
        followers,
    }
}

/// The nodes that the instrument's outputs drive: output 0 first, and none left out.
fn outputs(top: &Section<'_>, nodes: &[FileNode]) -> Vec<NodeId> {
    let mut driven: Vec<(&Placed<u32>, NodeId)> = Vec::new();
    for (number, node) in nodes.iter().enumerate() {
        driven.extend(node.output.as_ref().map(|output| (output, NodeId(number))));
    }
    driven.sort_by_key(|(output, _)| output.value);
    for (number, (output, _)) in driven.iter().enumerate() {
        let wanted = number as u32;
        if output.value != wanted {
            let message = match output.value < wanted {
                true => format!("output {} drives two nodes", output.value),
                false => format!("output {} drives a node, and output {wanted} does not", output.value),
            };
            top.refuse(
                &output.place,
                message,
                "number the outputs from 0 on; another node can follow one that is driven",
            );
            break;
        }
    }
    driven.into_iter().map(|(_, node)| node).collect()
}

/// The node of a name, which is told where there is none.
pub(super) fn named(section: &Section<'_>, names: &[String], name: &Placed<String>) -> Option<NodeId> {
    let found = names.iter().position(|known| *known == name.value).map(NodeId);
    if found.is_none() {
        let help = suggest(&name.value, names.iter().map(String::as_str), "node");
        section.refuse(&name.place, format!("there is no node '{}'", name.value), help);
    }
    found
}
