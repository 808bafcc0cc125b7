//! Decoders of vehicle, sound, network and debug lines: known bits by hand.

use deep_tap::bus::Frame;
use deep_tap::capture::Capture;
use deep_tap::decode::{I2sConfig, JtagConfig, LinConfig, Protocol, SerialBus};
use deep_tap::diagnose::diagnose_bus;
use deep_tap::line::LineId;

use crate::buses::{frames, lines};
use crate::decode::{faults, fields, kinds};

fn lin(rate: &str, classic: bool) -> Protocol {
    Protocol::Lin(LinConfig::new(rate.parse().unwrap()).classic(classic))
}

/// A frame of bytes behind a break of 13 bits, with a stop bit and a bit of rest after each.
fn lin_bits(bytes: &[u8]) -> String {
    let mut bits = format!("{}1", "0".repeat(13));
    for byte in bytes {
        let data: String = (0..8).map(|place| char::from(b'0' + (byte >> place & 1))).collect();
        bits.push_str(&format!("0{data}11"));
    }
    bits
}

fn lin_record(frames: &[&[u8]]) -> Capture {
    let rest = "1".repeat(60);
    let bits: Vec<String> = frames.iter().map(|bytes| lin_bits(bytes)).collect();
    lines(&[("LIN", &format!("{rest}{}{rest}", bits.join(&rest)))], 10)
}

#[test]
fn lin_frames_have_their_identifier_and_the_checksum_of_the_standard() {
    // The standard's example: 0x4A 0x55 0x93 0xE5 sum up to 0xE6. Identifier 1 is sent as 0xC1.
    let data = [0x4a, 0x55, 0x93, 0xe5];
    let with = |identifier: u8, checksum: u8| [&[0x55, identifier][..], &data, &[checksum]].concat();
    let (old, new, diagnostic) = (with(0xc1, 0xe6), with(0xc1, 0x25), with(0x3c, 0xe6));
    let record = lin_record(&[&new, &diagnostic, &[0x55, 0x42]]);
    let seen = frames(&record, &lin("100 kHz", false));
    assert_eq!((kinds(&seen), faults(&seen)), (vec!["data", "data", "header"], vec!["no-answer"]));
    let want = [
        ("identifier", 1),
        ("data", 0x4a),
        ("data", 0x55),
        ("data", 0x93),
        ("data", 0xe5),
        ("checksum", 0x25),
    ];
    assert_eq!(fields(&seen[0]), want);
    assert_eq!(fields(&seen[2]), [("identifier", 2)]);
    let classic =
        |bytes: &[u8], classic| faults(&frames(&lin_record(&[bytes]), &lin("100 kHz", classic))).join(" ");
    assert_eq!(
        [classic(&old, true), classic(&old, false), classic(&new, true)],
        ["", "checksum", "checksum"]
    );
    // Nothing but zeros, and what carries over more than once.
    assert_eq!(classic(&[0x55, 0xc1, 0, 0, 0xff], true), "");
    assert_eq!(classic(&[0x55, 0xc1, 0xff, 0xff, 0xff, 0x02, 0xfd], true), "");
    assert_eq!(classic(&with(0x41, 0xe6), true), "parity");
    assert_eq!(classic(&[&[0x54, 0xc1][..], &data, &[0xe6]].concat(), true), "sync");
    // What is stated wrongly is told.
    let record = lin_record(&[&old, &old, &old, &old]);
    let about =
        |protocol| diagnose_bus(&record, &SerialBus::of_lines("body", protocol, vec![LineId(0)]).unwrap());
    assert!(about(lin("100 kHz", true)).is_empty());
    assert_eq!(about(lin("100 kHz", false))[0].remedy, "checksum = \"classic\"");
    assert_eq!(about(lin("50 kHz", true))[0].remedy, "bit-rate = \"100 kHz\"");
}

/// A clock with a rising edge in the middle of each bit of the data lines.
fn clocked(named: &[(&str, String)]) -> Capture {
    let clock = "01".repeat(named[0].1.len());
    let twice: Vec<(&str, String)> =
        named.iter().map(|(name, bits)| (*name, bits.chars().flat_map(|bit| [bit, bit]).collect())).collect();
    let all: Vec<(&str, &str)> =
        std::iter::once(("CLK", clock.as_str())).chain(twice.iter().map(|(n, b)| (*n, b.as_str()))).collect();
    lines(&all, 10)
}

fn text(parts: &[&str]) -> String {
    parts.concat().replace(' ', "")
}

#[test]
fn management_frames_of_both_clauses() {
    let ones = "1".repeat(32);
    // Clause 22: read register 2 of transceiver 1, which answers 0x0022; nobody is at 3; write 0x8000.
    let read = text(&["01 10 00001 00010 10 0000000000100010"]);
    let nobody = text(&["01 10 00011 00010 11 1111111111111111"]);
    let write = text(&["01 01 00001 00000 10 1000000000000000"]);
    // Clause 45: address 0x0005 of device 1, then read it.
    let address = text(&["00 00 00001 00001 10 0000000000000101"]);
    let next = text(&["00 11 00001 00001 10 0000000000001111"]);
    let bits = [&ones, &read, &ones, &nobody, &ones, &write, "1", &ones, &address, &ones, &next]
        .map(|s| s as &str)
        .concat();
    let seen = frames(&clocked(&[("MDIO", bits)]), &Protocol::Mdio);
    assert_eq!(
        (kinds(&seen), faults(&seen)),
        (vec!["read", "read", "write", "address", "read"], vec!["no-answer"])
    );
    assert_eq!(fields(&seen[0]), [("phy", 1), ("register", 2), ("data", 0x22)]);
    assert_eq!(fields(&seen[2]), [("phy", 1), ("register", 0), ("data", 0x8000)]);
    assert_eq!(fields(&seen[3]), [("port", 1), ("device", 1), ("data", 5)]);
    // Without a preamble, it is not known where a frame begins.
    assert!(frames(&clocked(&[("MDIO", text(&["1111", &read, &read]))]), &Protocol::Mdio).is_empty());
}

#[test]
fn debug_transfers_with_their_answers() {
    let reset = format!("{}00", "1".repeat(52));
    let low_first = |value: u64, bits: u32| -> String {
        (0..bits).map(|place| if value >> place & 1 == 1 { '1' } else { '0' }).collect()
    };
    // Read the identification register, which is 0x0BC11477 on some; write 0xF0 to the select register.
    let read = text(&["10100101", "1", "100", &low_first(0x0bc1_1477, 32), "0", "1"]);
    let write = text(&["10001101", "1", "100", "1", &low_first(0xf0, 32), "0"]);
    let wrong = text(&["10001101", "1", "100", "1", &low_first(0xf1, 32), "0"]);
    let wait = text(&["10100101", "1", "010", "1"]);
    let bits = [&reset as &str, &read, &write, &wait, "00", &wrong, "0000"].concat();
    let seen = frames(&clocked(&[("IO", bits.clone())]), &Protocol::Swd);
    assert_eq!(kinds(&seen), ["reset", "read", "write", "read", "write"]);
    assert_eq!(faults(&seen), ["wait", "parity"]);
    assert_eq!(fields(&seen[1]), [("access", 0), ("address", 0), ("ack", 1), ("data", 0x0bc1_1477)]);
    assert_eq!(fields(&seen[2]), [("access", 0), ("address", 8), ("ack", 1), ("data", 0xf0)]);
    // Nobody there: the line is pulled up; what follows is read only after the next reset.
    let absent = [&reset as &str, "10100101", "1111", "0101", &reset, &read].concat();
    let seen = frames(&clocked(&[("IO", absent)]), &Protocol::Swd);
    assert_eq!((kinds(&seen), faults(&seen)), (vec!["reset", "read", "reset", "read"], vec!["no-answer"]));
}

#[test]
fn sound_samples_of_both_sides() {
    // Words of four bits, one clock after the word select; the clocks left over carry nothing.
    let select = text(&["1 00000 11111 00000 11111 0"]);
    let data = text(&["0 1 1010 0 1100 1 0011 0 1111 0"]);
    let config = |bits, left_justified| Protocol::I2s(I2sConfig::new(bits).left_justified(left_justified));
    let record = clocked(&[("WS", select), ("SD", data)]);
    let seen = frames(&record, &config(4, false));
    let told: Vec<(&str, u64)> = seen.iter().map(|f: &Frame| (f.kind, f.fields[0].value)).collect();
    assert_eq!(
        (told, faults(&seen).len()),
        (vec![("left", 0b1010), ("right", 0b1100), ("left", 0b0011), ("right", 0b1111)], 0)
    );
    // Justified left, the first bit comes with the word select, and high is left.
    let seen = frames(&record, &config(5, true));
    let told: Vec<(&str, u64)> = seen.iter().map(|f| (f.kind, f.fields[0].value)).collect();
    assert_eq!(told[..2], [("right", 0b11010), ("left", 0b01100)]);
    assert!(
        faults(&frames(&record, &config(9, false)))
            .iter()
            .all(|fault| ["truncated", "cut-off"].contains(fault))
    );
    assert!(config(65, false).decoder(record.base()).is_err());
}

/// A scan as mode, to the parts, from the parts: from idle to idle, the first bits first, with a pause after `pause`.
fn scan(path: &str, to: &str, from: &str, pause: usize) -> [String; 3] {
    let mut all = [path.to_string(), "0".repeat(path.len()), "0".repeat(path.len())];
    let last = to.len() - 1;
    for (place, (to, from)) in to.chars().zip(from.chars()).enumerate() {
        let exits = place == last || place + 1 == pause;
        [if exits { '1' } else { '0' }, to, from]
            .iter()
            .zip(&mut all)
            .for_each(|(bit, line)| line.push(*bit));
        if place + 1 == pause && place != last {
            // Pause twice, exit, and shift on.
            all[0].push_str("0010");
            all[1..].iter_mut().for_each(|line| line.push_str("0000"));
        }
    }
    // Update, idle.
    all[0].push_str("10");
    all[1..].iter_mut().for_each(|line| line.push_str("00"));
    all
}

#[test]
fn data_scans_of_a_chain_are_those_of_the_part_that_is_not_bypassed() {
    let (instruction, data) = ("1100", "100");
    let parts = [
        ["1111110".to_string(), "0".repeat(7), "0".repeat(7)],
        // The part at TDO (4 bits) in bypass, the one at TDI (5 bits) reads: what comes first is the bypass.
        scan(instruction, "1111 01000".replace(' ', "").as_str(), "000000001", 0),
        scan(data, "010110100", "1 01100011".replace(' ', "").as_str(), 4),
        // The other way round.
        scan(instruction, "0100 11111".replace(' ', "").as_str(), "000000001", 3),
        scan(data, "10110100 1".replace(' ', "").as_str(), "01100011 0".replace(' ', "").as_str(), 0),
        // Both, and then a reset: it is not known whose bits those are.
        scan(instruction, "010001000", "000000001", 0),
        scan(data, "101101001", "011000110", 0),
        ["1111110".to_string(), "0".repeat(7), "0".repeat(7)],
        scan(data, "101101001", "011000110", 0),
    ];
    let line = |number: usize| parts.iter().map(|part| part[number].as_str()).collect::<String>();
    let record = clocked(&[("TMS", line(0)), ("TDI", line(1)), ("TDO", line(2))]);
    let seen = frames(&record, &Protocol::Jtag(JtagConfig::default().chain(vec![5, 4])));
    let scans: Vec<_> = seen.iter().filter(|frame| frame.kind == "dr-scan").map(fields).collect();
    let own = |part| vec![("part", part), ("tdi", 0b0010_1101), ("tdo", 0b1100_0110)];
    assert_eq!(scans[..2], [own(0), own(1)], "{seen:#?}");
    let whole = vec![("tdi", 0b1_0010_1101), ("tdo", 0b0_1100_0110)];
    assert_eq!(scans[2..], [whole.clone(), whole]);
    assert!(faults(&seen).is_empty());
}
