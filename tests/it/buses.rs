//! The other decoders: known bits by hand, what the bench's senders send, and any edges at all; and
//! frames as events, in stored records and as samples arrive.

use deep_tap::bus::{Field, FieldKind, Frame};
use deep_tap::capture::Capture;
use deep_tap::decode::{
    Access, CanConfig, ClockedConfig, I2cConfig, I2sConfig, JtagConfig, LinConfig, ParallelConfig, Parity,
    Protocol, PulsesConfig, Registers, SerialBus, SpiConfig, Strobes, UartConfig, decode,
};
use deep_tap::event::{Meaning, Program, Scope, StreamSearch};
use deep_tap::format::vcd;
use deep_tap::line::{BitOrder, Level, LineId};
use deep_tap::quantity::Rational;
use deep_tap::scan::{SampleBlock, SampleWidth};
use deep_tap::setup::Setup;
use deep_tap::time::{Resolution, Tick};
use proptest::prelude::*;

use crate::decode::{board, data, faults, fields, kinds, streamed};
use crate::senders::{BIT, Random, World, frequency};
use crate::support::{capture, setup};

pub(crate) fn frames(capture: &Capture, protocol: &Protocol) -> Vec<Frame> {
    let mut decoder = protocol.decoder(capture.base()).unwrap();
    let lines: Vec<LineId> = (0..decoder.lines()).map(LineId).collect();
    let mut frames = Vec::new();
    let _ = decode(capture, &lines, capture.range(), &mut *decoder, &mut frames);
    frames
}

/// A line that has these levels for a number of ticks each, at 1 MS/s.
fn bits(bits: &str, ticks: u64) -> Vec<u64> {
    let mut edges = Vec::new();
    let mut last = '0';
    for (place, bit) in bits.chars().filter(|bit| !bit.is_whitespace()).enumerate() {
        if bit != last {
            edges.push(place as u64 * ticks + 1);
        }
        last = bit;
    }
    edges
}

/// Several such lines.
pub(crate) fn lines(named: &[(&str, &str)], ticks: u64) -> Capture {
    let edges: Vec<Vec<u64>> = named.iter().map(|(_, line)| bits(line, ticks)).collect();
    let len = named.iter().map(|(_, line)| line.len() as u64 * ticks + 1).max().unwrap();
    let named: Vec<(&str, &[u64])> =
        named.iter().zip(&edges).map(|((name, _), edges)| (*name, edges.as_slice())).collect();
    capture("1 MS/s", Resolution::EXACT, len, &named)
}

fn can(rate: &str) -> Protocol {
    Protocol::Can(CanConfig::new(rate.parse().unwrap()))
}

/// Identifier 0x014 and one byte of 0x01: start, identifier, control, length, data, the checksum of
/// CRC-15/CAN (whose known answer for "123456789" is 0x059E), and the tail; with stuff bits.
const CAN_FRAME: &str = "0000010010100000100010000010011110111010100111011111111";

#[test]
fn a_can_frame_by_hand_with_its_checksum_and_what_can_be_wrong_with_it() {
    let idle = "1".repeat(14);
    let read = |frame: &str| frames(&lines(&[("RX", &format!("{idle}{frame}{idle}"))], 10), &can("100 kHz"));
    let seen = read(CAN_FRAME);
    let want = [("identifier", 0x14), ("length", 1), ("data", 1), ("crc", 0x7753), ("ack", 0)];
    assert_eq!((kinds(&seen), fields(&seen[0]), faults(&seen)), (vec!["data"], want.to_vec(), vec![]));
    assert_eq!((seen[0].start, seen[0].end), (Tick(141), Tick(141 + 550)));
    assert_eq!(seen[0].field("identifier").unwrap().start, Tick(151));
    // The last bit of the checksum is another one; a node that does not acknowledge.
    assert_eq!(faults(&read(&format!("{}0{}", &CAN_FRAME[..44], &CAN_FRAME[45..]))), ["crc"]);
    let alone = format!("{}1{}", &CAN_FRAME[..CAN_FRAME.len() - 9], "1".repeat(8));
    let alone = read(&alone);
    assert_eq!((faults(&alone), alone[0].faults[0].at), (vec!["no-ack"], Tick(141 + 460)));
    // Six dominant bits in the middle: an error flag, with its delimiter, and the bus goes on.
    let broken = format!("{}000000{}{idle}{CAN_FRAME}", &CAN_FRAME[..13], "1".repeat(8));
    let seen = read(&broken);
    assert_eq!((kinds(&seen), faults(&seen)), (vec!["data", "error", "data"], vec!["stuff", "error"]));
    assert_eq!(seen[2].field("data").unwrap().value, 1);
    // Before eleven recessive bits, nothing is a frame; a short dominant spike is none either.
    let early = format!("11111{CAN_FRAME}{idle}{CAN_FRAME}{idle}");
    assert_eq!(frames(&lines(&[("RX", &early)], 10), &can("100 kHz")).len(), 1);
    // A dominant bit right after the frame asks for time.
    let overload = read(&format!("{CAN_FRAME}1000000{}", "1".repeat(8)));
    assert_eq!(kinds(&overload), ["data", "overload"]);
    // A reserved bit tells the other format.
    assert_eq!(kinds(&read(&format!("{}1{}", &CAN_FRAME[..15], "1".repeat(20)))), ["fd"]);
}

#[test]
fn what_can_nodes_of_the_bench_send_is_read_without_loss() {
    for (seed, rate, extended, identifier, error) in [
        (1, "10 MS/s", false, 0x7ff, "0 %"),
        (2, "5 MS/s", true, 0x1ff0_0ff7, "0.4 %"),
        (3, "2 MS/s", false, 0, "-0.4 %"),
    ] {
        let payload = [0u64, 0, 0, 0xff, 0xff, 0x55, 0x1f, 0xe0];
        let device = format!(
            "can = [{{ node = \"RX\", bit-rate = \"250 kHz\", rate-error = \"{error}\", identifier = {identifier}, extended = {extended}, data = [0, 0, 0, 255, 255, 85, 31, 224], every = \"1 ms\", start = \"100 us\" }}]"
        );
        let capture = board("RX", &device, rate, seed);
        let seen = frames(&capture, &can("250 kHz"));
        assert_eq!((seen.len(), faults(&seen).len()), (5, 0), "{:?}", seen[0]);
        assert!(seen.iter().all(|f| f.field("identifier").unwrap().value == identifier));
        assert!(
            seen.iter()
                .all(|f| { f.fields.iter().filter(|f| f.name == "data").map(|f| f.value).eq(payload) })
        );
        // The rate that another node would have read it at is not silently right.
        let wrong = frames(&capture, &can("200 kHz"));
        assert!(wrong.iter().all(|f| !f.faults.is_empty()), "{wrong:?}");
    }
}

#[test]
fn a_test_port_is_followed_from_any_state() {
    let device = "jtag = [{ tck = \"TCK\", tms = \"TMS\", tdi = \"TDI\", tdo = \"TDO\", bit-rate = \"1 MHz\", instruction = 0x2a, instruction-bits = 9, data-in = 0x12345678, data-out = 0x4ba00477, data-bits = 32, every = \"200 us\", start = \"20 us\" }]";
    let capture = board("TCK TMS TDI TDO", device, "20 MS/s", 5);
    let port = |chain: &[u32]| Protocol::Jtag(JtagConfig::default().chain(chain.to_vec()));
    let seen = frames(&capture, &port(&[5, 4]));
    assert_eq!(kinds(&seen)[..6], ["reset", "ir-scan", "dr-scan", "reset", "ir-scan", "dr-scan"]);
    // What is shifted first is meant for the part at TDO: four bits of 0 0010 1010.
    let ir = [("tdi", 0xa), ("tdo", 0x1), ("tdi", 0x2), ("tdo", 0x0)];
    assert_eq!((fields(&seen[1]), faults(&seen).len()), (ir.to_vec(), 0));
    assert_eq!(fields(&seen[2]), [("tdi", 0x1234_5678), ("tdo", 0x4ba0_0477)]);
    assert_eq!(seen[2].field("tdo").unwrap().bits, 32);
    assert_eq!(fields(&frames(&capture, &port(&[]))[1]), [("tdi", 0x2a), ("tdo", 0x1)]);
    assert_eq!(frames(&capture, &port(&[5, 5]))[1].faults[0].kind, "length");
    // From the middle of a data scan, the state is unknown until the mode line tells it.
    let range = Tick(1_300)..Tick(8_000);
    let mut decoder = port(&[]).decoder(capture.base()).unwrap();
    let mut late = Vec::new();
    let _ = decode(&capture, &[0, 1, 2, 3].map(LineId), range, &mut *decoder, &mut late);
    assert_eq!((late[0].kind, late.len()), ("reset", 3));
    let plain = frames(&capture, &port(&[]));
    assert!(late[1..].iter().all(|f| plain.contains(f)), "{late:?}");
}

#[test]
fn one_wire_parts_say_that_they_are_there_and_who_they_are() {
    // Read the number of a part: the example of a well-known application note, whose checksum is 0xA2.
    let rom = "0x33, 0x02, 0x1c, 0xb8, 0x01, 0, 0, 0, 0xa2";
    let device = |more: &str| {
        format!(
            "one-wire = [{{ node = \"IO\", bytes = [{rom}, 0xbe, 0x50], start = \"1 ms\", every = \"20 ms\" {more} }}]"
        )
    };
    let record = |device: &str| {
        let setup = "10 ms";
        crate::decode::board_for("IO", device, "2 MS/s", 3, setup)
    };
    let seen = frames(&record(&device("")), &Protocol::OneWire);
    assert_eq!(kinds(&seen), ["reset", "rom", "byte", "byte"]);
    let number = [("command", 0x33), ("family", 0x02), ("serial", 0x1_b81c), ("crc", 0xa2)];
    assert_eq!((fields(&seen[1]), faults(&seen)), (number.to_vec(), vec![]));
    let wrong = frames(&record(&device("").replace("0xb8", "0xb9")), &Protocol::OneWire);
    assert_eq!(faults(&wrong), ["crc"]);
    assert_eq!(data(&seen), [0xbe, 0x50]);
    // Its memory, as data sheets of such parts print it, ends with a checksum.
    let memory = "0xbe, 0x50, 0x05, 0x4b, 0x46, 0x7f, 0xff, 0x0c, 0x10, 0x1c";
    let whole = |memory: &str| {
        let device = device("").replace("0xbe, 0x50", memory);
        frames(&crate::decode::board_for("IO", &device, "2 MS/s", 3, "19 ms"), &Protocol::OneWire)
    };
    let seen = whole(memory);
    assert_eq!((fields(seen.last().unwrap()), faults(&seen)), (vec![("crc", 0x1c)], vec![]));
    assert_eq!(faults(&whole(&memory.replace("0x4b", "0x4c"))), ["crc"]);
    let absent = frames(&record(&device(", present = false")), &Protocol::OneWire);
    assert_eq!((kinds(&absent), faults(&absent)), (vec!["reset"], vec!["no-presence"]));
}

#[test]
fn chains_of_lights_are_told_apart_by_their_rests() {
    let device = "lights = [{ node = \"DIN\", bytes = [0x10, 0x80, 0xff, 0x01, 0x02, 0x03], period = \"1.25 us\", zero = \"400 ns\", one = \"800 ns\", start = \"100 us\", every = \"1 ms\" }]";
    let capture = board("SCLK", &device.replace("DIN", "SCLK"), "10 MS/s", 4);
    let config = PulsesConfig::new("600 ns".parse().unwrap(), "50 us".parse().unwrap(), 24);
    let seen = frames(&capture, &Protocol::Pulses(config));
    assert_eq!(kinds(&seen), ["word", "word", "reset"].repeat(5));
    assert_eq!(fields(&seen[0]), [("element", 0), ("data", 0x1080ff)]);
    assert_eq!(fields(&seen[1]), [("element", 1), ("data", 0x010203)]);
    let wider = frames(&capture, &Protocol::Pulses(config.bits(32)));
    assert_eq!((faults(&wider)[0], wider[1].field("data").unwrap().bits), ("truncated", 16));
    let none = Protocol::Pulses(config.rest("1 ns".parse().unwrap()));
    assert!(none.decoder(capture.base()).is_err());
    assert!(
        Protocol::Pulses(config)
            .decoder(lines(&[("A", "01")], 1).base().exactly(false))
            .unwrap_err()
            .help()
            .unwrap()
            .contains("3.333")
    );
}

#[test]
fn clock_and_data_with_start_parity_and_stop() {
    // As a keyboard sends 0x1c: start 0, 0011 1000, odd parity 0, stop 1; taken with the falling edge.
    let word = "0 0 0 1 1 1 0 0 0 0 1".replace(' ', "");
    let data: String =
        format!("11{}11", word.chars().map(|bit| bit.to_string().repeat(2)).collect::<String>());
    let clock: String = format!("11{}11", "10".repeat(11));
    let config = ClockedConfig::new(8)
        .rising(false)
        .order(BitOrder::LowestFirst)
        .start(Some(Level::Low))
        .parity(Parity::Odd)
        .stop(Some(Level::High));
    let capture = lines(&[("CLK", &clock), ("DAT", &data)], 10);
    let seen = frames(&capture, &Protocol::Clocked(config));
    assert_eq!(
        (fields(&seen[0]), faults(&seen).len(), seen.len()),
        (vec![("data", 0x1c), ("parity", 0)], 0, 1)
    );
    let even = frames(&capture, &Protocol::Clocked(config.parity(Parity::Even)));
    assert_eq!(faults(&even), ["parity"]);
    let longer = frames(&capture, &Protocol::Clocked(config.bits(12).gap(Some("100 us".parse().unwrap()))));
    assert_eq!(faults(&longer), ["cut-off"]);
    // The other edge is where the data changes.
    let wrong = frames(&capture, &Protocol::Clocked(config.rising(true)));
    assert!(wrong.iter().all(|f| f.faults.iter().any(|fault| fault.kind == "order")), "{wrong:?}");
    let plain = ClockedConfig::new(8);
    assert!(Protocol::Clocked(plain).decoder(capture.base()).unwrap_err().message().contains("where a word"));
}

#[test]
fn memory_cycles_have_address_and_data_and_say_when_they_collide() {
    let named = [
        ("WE", "1 1 0 0 1 1 1 1 1 1 0 0 1 1"),
        ("OE", "1 1 1 1 1 1 0 0 1 1 1 1 1 1"),
        ("CE", "1 0 0 0 0 0 0 0 0 0 0 0 0 1"),
        ("D0", "0 1 1 1 1 0 0 1 1 0 0 0 0 0"),
        ("D1", "0 0 0 1 1 0 0 0 0 0 1 1 1 0"),
        ("A0", "0 1 1 1 1 1 1 1 1 0 0 1 1 0"),
    ];
    let named: Vec<(&str, String)> =
        named.iter().map(|(name, line)| (*name, line.replace(' ', ""))).collect();
    let named: Vec<(&str, &str)> = named.iter().map(|(name, line)| (*name, line.as_str())).collect();
    let low = Some(Level::Low);
    let config = ParallelConfig::new(Strobes::Cycles { write: low, read: low }, 2).select(low).address(1);
    let seen = frames(&lines(&named, 10), &Protocol::Parallel(config));
    assert_eq!(kinds(&seen), ["write", "read", "write"]);
    assert_eq!(fields(&seen[0]), [("address", 1), ("data", 3)]);
    assert_eq!(fields(&seen[1]), [("address", 1), ("data", 1)]);
    assert_eq!((seen[0].start, seen[0].end), (Tick(21), Tick(41)));
    assert_eq!(faults(&seen), ["address"]);
    // Both strobes on one line are active at once; a clock takes a word with each edge.
    let both = [named[0], ("OE", named[0].1), named[2], named[3], named[4], named[5]];
    assert!(faults(&frames(&lines(&both, 10), &Protocol::Parallel(config))).contains(&"conflict"));
    let clock = config.strobes(Strobes::Clock(true)).select(None).address(0);
    let words = frames(&lines(&[named[0], named[3], named[4]], 10), &Protocol::Parallel(clock));
    // The line starts low, rises at once, then ends two strobes.
    assert_eq!(words.iter().map(|f| f.fields[0].value).collect::<Vec<_>>(), [0, 3, 2]);
    // Multiplexed: the data lines carry the address while the latch is high.
    let latch = config.latch(Some(Level::High)).select(None).address(0);
    let muxed = [named[0], named[1], ("ALE", "01100000000000"), named[3], named[4]];
    assert_eq!(
        fields(&frames(&lines(&muxed, 10), &Protocol::Parallel(latch))[0]),
        [("address", 1), ("data", 3)]
    );
    assert!(Protocol::Parallel(config.data(70)).decoder(lines(&named, 10).base()).is_err());
}

/// A frame of a two-wire bus that has these bytes.
fn transfer(kind: &'static str, address: u64, bytes: &[u64]) -> Frame {
    let mut frame = Frame::new(kind, Tick(0)..Tick(9));
    frame.fields.push(Field::new(FieldKind::Address, "address", Tick(0)..Tick(1), address, 7));
    let byte = |byte: &u64| Field::new(FieldKind::Data, "data", Tick(1)..Tick(2), *byte, 8);
    frame.fields.extend(bytes.iter().map(byte));
    frame
}

#[test]
fn registers_follow_their_number_and_have_values_in_their_unit() {
    let setup = |registers: &str| {
        setup(&format!(
            "[[line]]\nname = \"L0\"\n[[line]]\nname = \"L1\"\n[[line]]\nname = \"L2\"\n[[line]]\nname = \"L3\"\n[[bus]]\nname = \"two\"\nkind = \"i2c\"\nclock = \"L0\"\ndata = \"L1\"\n[[bus]]\nname = \"adc\"\nkind = \"spi\"\nclock = \"L0\"\nselect = \"L1\"\nmosi = \"L2\"\nmiso = \"L3\"\n{registers}"
        ))
    };
    let temperature = "[[register]]\nbus = \"two\"\npart = 0x48\nnumber = 0x00\nname = \"temperature\"\nbytes = 2\ncoding = \"signed\"\nper-count = \"1/256 degC\"\n";
    let minutes = "[[register]]\nbus = \"two\"\nnumber = 0x03\nname = \"minutes\"\ncoding = \"bcd\"\noffset = \"-1 min\"\n";
    let level = "[[register]]\nbus = \"adc\"\nnumber = 0x10\nname = \"level\"\nbytes = 2\norder = \"lowest-first\"\nper-count = \"0.5 mm\"\naccess = \"read\"\n";
    let board = setup(&format!("{temperature}{minutes}{level}")).unwrap();
    let mut two = Registers::new("two", &Protocol::I2c(I2cConfig::default()), &board.registers).unwrap();
    let told = |found: Vec<Access>| -> Vec<(Option<u64>, bool, u64, Option<f64>)> {
        let value =
            |a: &Access| board.registers[a.register?].value(a.raw).map(Rational::to_f64).filter(|_| !a.cut);
        found.iter().map(|a| (a.number, a.write, a.raw, value(a))).collect()
    };
    // A read before any number was written: where it goes is not shown.
    assert_eq!(told(two.frame(&transfer("read", 0x48, &[0x12]))), [(None, false, 0x12, None)]);
    assert_eq!(told(two.frame(&transfer("write", 0x48, &[0x00]))), []);
    // -25.25 degC, then what follows it; the next read goes on from there.
    let read = two.frame(&transfer("read", 0x48, &[0xe6, 0xc0, 0x77]));
    assert_eq!(told(read), [(Some(0), false, 0xe6c0, Some(-25.25)), (Some(2), false, 0x77, None)]);
    assert_eq!(told(two.frame(&transfer("read", 0x48, &[0x59]))), [(Some(3), false, 0x59, Some(58.0))]);
    let cut = two.frame(&transfer("write", 0x48, &[0x00, 0x19]));
    assert_eq!((told(cut.clone()), cut[0].cut), (vec![(Some(0), true, 0x19, None)], true));
    // 0x5a has no decimal digits, and another part has its own numbers.
    assert_eq!(told(two.frame(&transfer("write", 0x20, &[0x03, 0x5a]))), [(Some(3), true, 0x5a, None)]);
    let spi = Protocol::Spi(SpiConfig::new(0));
    let mut adc = Registers::new("adc", &spi, &board.registers).unwrap();
    let word = |begins, mosi, miso| {
        let mut word = Frame { begins, ..Frame::new("word", Tick(0)..Tick(9)) };
        word.fields.push(Field::new(FieldKind::Data, "mosi", Tick(0)..Tick(9), mosi, 8));
        word.fields.push(Field::new(FieldKind::Data, "miso", Tick(0)..Tick(9), miso, 8));
        word
    };
    for (begins, mosi, miso) in [(true, 0x10, 0xff), (false, 0, 0x34), (false, 0, 0x12)] {
        assert!(adc.frame(&word(begins, mosi, miso)).is_empty());
    }
    let read = adc.frame(&word(true, 0x42, 0));
    assert_eq!(told(read), [(Some(0x10), false, 0x1234, Some(2330.0))]);
    adc.frame(&word(false, 0x99, 0));
    assert_eq!(told(adc.finish()), [(Some(0x42), true, 0x99, None)]);
    // Words of 16 bits: two bytes in one of them, and no number that a cut one could have.
    let wide = |bits| Protocol::Spi(SpiConfig::new(0).bits(bits));
    let mut adc = Registers::new("adc", &wide(16), &board.registers).unwrap();
    let word = |begins, bits, mosi, miso| {
        let mut word = Frame { begins, ..Frame::new("word", Tick(0)..Tick(9)) };
        word.fields.push(Field::new(FieldKind::Data, "mosi", Tick(0)..Tick(9), mosi, bits));
        word.fields.push(Field::new(FieldKind::Data, "miso", Tick(0)..Tick(9), miso, bits));
        word
    };
    for (begins, bits, mosi, miso) in [(true, 16, 0x10, 0xffff), (false, 16, 0, 0x1234), (false, 5, 0, 3)] {
        assert!(adc.frame(&word(begins, bits, mosi, miso)).is_empty());
    }
    assert_eq!(told(adc.finish()), [(Some(0x10), false, 0x1234, Some(2330.0))]);
    assert!(Registers::new("adc", &wide(64), &board.registers).is_some());
    assert!(Registers::new("adc", &wide(12), &board.registers).is_none());
    assert!(Registers::new("can", &can("250 kHz"), &board.registers).is_none());
    for (change, with, wanted) in [
        ("bus = \"two\"", "bus = \"tow\"", "did you mean 'two'?"),
        ("bytes = 2", "bytes = 9", "1 to 8 bytes"),
        ("number = 0x00", "number = -1", "a whole number from 0 on"),
        ("1/256 degC", "warm", "does not begin with a number"),
        ("coding = \"signed\"", "coding = \"signd\"", "unsigned, signed, bcd"),
        ("coding = \"signed\"", "offset = \"5 K\"", "write both in one unit"),
    ] {
        let error = setup(&temperature.replace(change, with)).unwrap_err();
        let told = format!("{} {}", error.message(), error.help().unwrap_or_default());
        assert!(told.contains(wanted), "{with}: {told}");
    }
}

/// One of each protocol, by number, for lines at 1 MS/s.
pub(crate) fn any_protocol(number: usize) -> Protocol {
    let time = |text: &str| text.parse().unwrap();
    let low = Some(Level::Low);
    match number {
        0 => Protocol::Uart(UartConfig::new("100 kHz".parse().unwrap())),
        1 => Protocol::I2c(I2cConfig::default()),
        2 => Protocol::Spi(SpiConfig::new(1).select(None).gap(Some(time("20 us")))),
        3 => can("200 kHz"),
        4 => Protocol::Jtag(JtagConfig::default().chain(vec![3])),
        5 => Protocol::Spi(SpiConfig::new(0).bits(3)),
        6 => Protocol::Clocked(ClockedConfig::new(5).gap(Some(time("15 us"))).parity(Parity::Even)),
        7 => {
            let (threshold, rest) = (time("8 us"), time("25 us"));
            Protocol::Pulses(PulsesConfig::new(threshold, rest, 5).order(BitOrder::LowestFirst))
        }
        8 => Protocol::Parallel(ParallelConfig::new(Strobes::Cycles { write: low, read: low }, 1).address(1)),
        9 => Protocol::Lin(LinConfig::new("100 kHz".parse().unwrap()).classic(true)),
        10 => Protocol::I2s(I2sConfig::new(5)),
        11 => Protocol::Mdio,
        12 => Protocol::Swd,
        _ => Protocol::Parallel(ParallelConfig::new(Strobes::Clock(false), 2).select(low)),
    }
}

/// The same samples, in blocks cut anywhere.
fn stream(capture: &Capture, cuts: &[usize], mut push: impl FnMut(&SampleBlock)) {
    let (mut at, mut cuts) = (0, cuts.iter().cycle());
    while at < capture.len() {
        let end = capture.len().min(at + *cuts.next().unwrap() as u64);
        let mut block = SampleBlock::new(SampleWidth::W8);
        for tick in at..end {
            let level = |line: usize| capture.trace(LineId(line)).level_at(Tick(tick));
            let word = |of| (0..4).fold(0, |word, line| word | u64::from(level(line) == of) << line);
            block.push(word(Level::High), word(Level::Unknown));
        }
        push(&block);
        at = end;
    }
}

proptest! {
    #![proptest_config(ProptestConfig { failure_persistence: None, ..ProptestConfig::with_cases(300) })]

    #[test]
    fn any_edges_are_read_alike_stored_and_streamed_and_found_as_events(
        edges in prop::collection::vec(prop::collection::vec(1u64..40, 0..120), 4..5),
        quiet in 0u64..9000,
        cuts in prop::collection::vec(1usize..3000, 1..5),
        number in 0usize..14,
        word in 0usize..15,
    ) {
        let ticks: Vec<Vec<u64>> =
            edges.iter().map(|d| d.iter().scan(quiet, |at, d| { *at += d; Some(*at) }).collect()).collect();
        let len = ticks.iter().flatten().max().unwrap_or(&1) + 100 + quiet;
        let named: Vec<(&str, &[u64])> = ["A", "B", "C", "D"].into_iter().zip(ticks.iter().map(Vec::as_slice)).collect();
        let capture = capture("1 MS/s", Resolution::EXACT, len, &named);
        let protocol = any_protocol(number);
        let found = frames(&capture, &protocol);
        let mut decoder = protocol.decoder(capture.base()).unwrap();
        let lines: Vec<LineId> = (0..decoder.lines()).map(LineId).collect();
        prop_assert_eq!(&streamed(&capture, &mut *decoder, &cuts), &found);
        for frame in &found {
            prop_assert!(frame.start <= frame.end, "{:?}", frame);
            prop_assert!(protocol.words().contains(&frame.kind), "{}", frame.kind);
            for field in &frame.fields {
                prop_assert!(protocol.words().contains(&field.name), "{}", field.name);
                prop_assert!(field.bits == 64 || field.value >> field.bits == 0, "{:?}", field);
                // What is refused as too wide is never there; addresses of ten bits are read without being asked for.
                let widest = protocol.widest(field.name).unwrap_or(64);
                prop_assert!(field.bits <= widest || (field.name, field.bits) == ("address", 10), "{:?}", field);
            }
            for fault in &frame.faults {
                prop_assert!(protocol.words().contains(&fault.kind), "{}", fault.kind);
            }
        }
        // The same as events, for one of the bus's words: at the ends of the frames that have it.
        let word = protocol.words()[word % protocol.words().len()];
        let mut scope = Scope::new();
        let bus = SerialBus::of_lines("bus", protocol.clone(), lines).unwrap();
        scope.define("bus", Meaning::Frames(bus));
        let program = Program::compile(&format!("bus has {word}"), &scope).unwrap();
        let tests = deep_tap::event::FrameTests::parse(word).unwrap();
        let meets = |frame: &&Frame| tests.are_met_by(frame) && !frame.faults.iter().any(|f| f.kind == "cut-off");
        let mut ends: Vec<Tick> =
            found.iter().filter(meets).map(|frame| frame.end).filter(|end| end.0 < len).collect();
        ends.sort_unstable();
        ends.dedup();
        let hits: Vec<Tick> = program.at(capture.base()).unwrap().hits(&capture, capture.range()).map(|hit| hit.tick).collect();
        prop_assert_eq!(&hits, &ends);
        let mut search = StreamSearch::new(&program.at(capture.base()).unwrap());
        let mut arrived = Vec::new();
        stream(&capture, &cuts, |block| arrived.extend(search.push(block.samples())));
        prop_assert_eq!(&arrived, &ends);
    }
}

#[test]
fn the_reference_names_all_words_of_each_kind() {
    let text = std::fs::read_to_string(crate::support::root().join("docs/setup.md")).unwrap();
    let tables = text.split("in the words that `has` asks for").nth(1).unwrap();
    let (table, instants) = tables.split_once("Instants, for").unwrap();
    let mut kinds = 0;
    for row in table.lines().filter(|line| line.starts_with("| `")) {
        let mut words: Vec<&str> = row.split('`').skip(1).step_by(2).collect();
        let kind = words.remove(0);
        let protocols = (0..=13).map(any_protocol).chain([Protocol::OneWire]);
        let Some(protocol) = protocols.into_iter().find(|protocol| protocol.name() == kind) else { continue };
        let mut known: Vec<&str> = protocol
            .words()
            .iter()
            .copied()
            .filter(|word| !["spike", "unknown", "cut-off"].contains(word))
            .collect();
        words.sort_unstable();
        words.dedup();
        known.sort_unstable();
        known.dedup();
        assert_eq!(words, known, "{kind}");
        let row = instants.lines().find(|line| line.starts_with(&format!("| `{kind}`"))).unwrap();
        let mut marks: Vec<&str> = row.split('`').skip(3).step_by(2).chain(["end"]).collect();
        let mut known = protocol.marks().to_vec();
        marks.sort_unstable();
        known.sort_unstable();
        assert_eq!(marks, known, "{kind}");
        kinds += 1;
    }
    assert_eq!(kinds, 13);
}

#[test]
fn frames_are_tested_by_the_words_of_their_bus() {
    let scope = {
        let mut scope = Scope::new();
        let bus = SerialBus::of_lines("rtc", Protocol::I2c(I2cConfig::default()), vec![LineId(0), LineId(1)])
            .unwrap();
        scope.define("rtc", Meaning::Frames(bus));
        scope.define("CLK", Meaning::Line(LineId(0)));
        scope
    };
    let told = |text: &str| {
        let error = Program::compile(text, &scope).unwrap_err();
        (error.message().to_string(), error.help().unwrap_or_default().to_string())
    };
    assert!(Program::compile("rtc has address == 0x5x, data in 1 .. 9, nack", &scope).is_ok());
    assert_eq!(
        told("rtc has adress == 1"),
        ("this bus has no 'adress'".into(), "did you mean 'address'?".into())
    );
    assert!(told("rtc has data in 9 .. 1").0.contains("upside down"));
    assert!(told("rtc has fault == 1").1.contains("alone"));
    assert!(told("rtc rises").1.contains("'rtc has"));
    // What the field has no bits for; open bits may be any.
    let (message, help) = told("rtc has address == 0xA0");
    assert_eq!(message, "'address' has 7 bits on this bus, which is 0x7f at most");
    assert!(help.contains("0x50 with its read/write bit is 0xa0") && help.contains("\"10-bit\""), "{help}");
    for never in ["data == 0x1xx", "data > 255", "data >= 256", "data in 256 .. 300", "address == 0x400"] {
        assert!(told(&format!("rtc has {never}")).0.contains("at most"), "{never}");
    }
    for possible in
        ["data == 0xxff", "data > 254", "data >= 255", "data in 255 .. 300", "data != 0x100", "data < 0x100"]
    {
        assert!(Program::compile(&format!("rtc has {possible}"), &scope).is_ok(), "{possible}");
    }
    assert!(told("CLK has data").0.contains("which has no frames"));
}

/// What models of other people sent, against what is read from the dump of their simulation.
#[test]
fn buses_that_other_peoples_models_drive_are_read_as_they_say() {
    let folder = crate::support::root().join("tests/fixtures/bus-models");
    let setup = Setup::from_file(&folder.join("setup.toml")).unwrap();
    let dump = std::fs::read(folder.join("bus_models.vcd")).unwrap();
    let capture = setup.apply(vcd::read(&dump, &folder).unwrap()).unwrap();
    let of = |name: &str| {
        let bus = setup.serial.iter().find(|bus| bus.name() == name).unwrap();
        let mut found = Vec::new();
        let mut decoder = bus.protocol().decoder(capture.base()).unwrap();
        let _ = decode(&capture, bus.lines(), capture.range(), &mut *decoder, &mut found);
        assert_eq!(faults(&found), Vec::<&str>::new(), "{name}");
        found
    };
    let hex = |values: Vec<u64>, digits: usize| -> String {
        values.iter().map(|value| format!("{value:0digits$x}")).collect()
    };
    let bytes = |frame: &Frame| -> Vec<u64> {
        frame.fields.iter().filter(|field| field.name == "data").map(|field| field.value).collect()
    };
    let printed = std::fs::read_to_string(folder.join("printed.txt")).unwrap();
    let sent = |what: &str| -> Vec<String> {
        printed.lines().filter_map(|line| line.strip_prefix(what)).map(|rest| rest.replace(' ', "")).collect()
    };
    assert_eq!(hex(data(&of("serial")), 2), sent("uart ").concat());
    let words = of("words");
    assert_eq!(hex(words.iter().map(|frame| frame.fields[0].value).collect(), 4), sent("spi ").concat());
    let memory = of("memory");
    let kind = |kind: &str, least: usize| -> Vec<String> {
        let frames = memory.iter().filter(|f| f.kind == kind && bytes(f).len() > least);
        frames.map(|frame| hex(bytes(frame), 2)).collect()
    };
    // A write has the register and three bytes; one of the register alone comes before each read.
    assert_eq!((kind("write", 3), kind("read", 0)), (sent("i2c write "), sent("i2c read ")));
    assert!(memory[..memory.len() - 1].iter().all(|f| f.field("address").unwrap().value == 0x51));
    let nobody = memory.last().unwrap();
    assert_eq!((nobody.field("address").unwrap().value, nobody.fields[1].name), (0x2a, "nack"));
    // Nothing is wrong, but for the address that nobody has.
    let findings = deep_tap::diagnose::diagnose(&capture, &setup);
    assert_eq!(
        findings.iter().map(|f| (f.buses[0].as_str(), f.kind)).collect::<Vec<_>>(),
        [("memory", "no-answer")]
    );
}

#[test]
fn flexible_data_rate_frames_are_read_at_both_of_their_rates() {
    let mut random = Random(0xcafe_f00d_1234);
    let lengths: Vec<usize> = (0..=8).chain([12, 16, 20, 24, 32, 48, 64]).collect();
    let (mut certain, mut all) = (0, 0);
    for (faster, samples) in [(1, 12), (2, 16), (4, 40), (8, 80), (4, 24)] {
        let world = World::flexible(&mut random, BIT, &lengths, faster);
        let config = CanConfig::new(frequency(BIT)).data_bit_rate(Some(frequency(BIT / faster)));
        for record in [world.sampled(&mut random, BIT / samples, 0), world.exact()] {
            let bus = SerialBus::of_lines("can", Protocol::Can(config), vec![LineId(0)]).unwrap();
            let seen: Vec<Frame> = bus.frames(&record, record.range()).unwrap().collect();
            assert!(faults(&seen).is_empty(), "{faster}, {samples}: {seen:#?}");
            let sent: Vec<Vec<u64>> = world.sent.iter().map(|sent| sent.data.clone()).collect();
            let own = |frame: &Frame| {
                frame.fields.iter().filter(|field| field.name == "data").map(|f| f.value).collect()
            };
            let read: Vec<Vec<u64>> = seen.iter().map(own).collect();
            assert_eq!(read, sent, "{faster}, {samples}");
            let told = seen.iter().map(|frame| frame.field("length").unwrap().value as usize);
            assert!(told.eq(lengths.iter().copied()) && seen.iter().all(|frame| frame.kind == "fd"));
            certain += seen.iter().filter(|frame| frame.certain).count();
            all += seen.len();
        }
        // Without the data bit rate, no more than the identifier of those that switch is read.
        let plain = Protocol::Can(CanConfig::new(frequency(BIT)));
        let seen = frames(&world.sampled(&mut random, BIT / samples, 0), &plain);
        let unread =
            seen.iter().filter(|frame| faults(std::slice::from_ref(frame)).contains(&"format")).count();
        assert_eq!(unread > 0, faster > 1, "{seen:#?}");
    }
    assert!(certain * 10 >= all * 9, "{certain} of {all}");
    // A byte that was changed on the way is told.
    let mut world = World::flexible(&mut random, BIT, &[24], 4);
    let middle = world.toggles[0].len() / 2;
    world.toggles[0].drain(middle..middle + 2);
    let config = CanConfig::new(frequency(BIT)).data_bit_rate(Some(frequency(BIT / 4)));
    let seen = frames(&world.sampled(&mut random, BIT / 40, 0), &Protocol::Can(config));
    assert!(!faults(&seen).is_empty(), "{seen:#?}");
}
