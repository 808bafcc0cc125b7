//! The two ends of the network protocol, on the loopback.

use std::io::{Read, Write};
use std::net::{Shutdown, TcpListener, TcpStream};
use std::path::Path;
use std::sync::LazyLock;
use std::time::Duration;

use deep_tap::bench::{Remote, Server, ServerOptions, Timeouts, connect};

use super::Target;

/// What a client may send.
pub(super) const SERVER: Target = Target {
    name: "server",
    run: |bytes| {
        let Ok(mut stream) = TcpStream::connect(SERVED.address()) else { return };
        let _ = stream.set_read_timeout(Some(Duration::from_millis(500)));
        let _ = stream.write_all(bytes);
        let _ = stream.write_all(b"\n*RST\n*CLS\n");
        let _ = stream.shutdown(Shutdown::Write);
        let mut answer = Vec::new();
        let _ = stream.take(1 << 24).read_to_end(&mut answer);
    },
    seeds: &[],
    texts: &[
        "*IDN?\n*CLS;*ESE 255;*ESR?\nSYSTem:ERRor:ALL?\n",
        "INSTrument:CAPabilities?\nINSTrument:PROTocol?\n",
        "INPut:THReshold 1.65,(@0:7,9)\nINPut:THReshold? (@0)\nSENSe:RATE 100MHZ;RATE?\n",
        "SENSe:LENGth 1000;:TRIGger:SOURce IMMediate;:INITiate;*OPC?\nFETCh?\n",
    ],
    slow: 40,
};

/// What a server may answer.
pub(super) const CLIENT: Target = Target {
    name: "client",
    run: |bytes| {
        let Ok(listener) = TcpListener::bind("127.0.0.1:0") else { return };
        let Ok(address) = listener.local_addr() else { return };
        let bytes = bytes.to_vec();
        let serving = std::thread::spawn(move || {
            if let Ok((mut stream, _)) = listener.accept() {
                let _ = stream.write_all(&bytes);
                let _ = stream.shutdown(Shutdown::Write);
                let mut asked = Vec::new();
                let _ = stream.set_read_timeout(Some(Duration::from_millis(50)));
                let _ = stream.take(1 << 16).read_to_end(&mut asked);
            }
        });
        let soon = Duration::from_millis(200);
        let _ = Remote::connect(&address.to_string(), Timeouts { connect: soon, answer: soon });
        let _ = serving.join();
    },
    seeds: &[],
    texts: &["Made up,EX-D32,1,1\n3\n#15{\"a\":}\n", "-203,\"Too many clients\"\n", "A,B,C,D\n1\n#0\n"],
    slow: 40,
};

static SERVED: LazyLock<Server> = LazyLock::new(|| {
    let bench = connect("bench:tide-gauge", Path::new("")).expect("the bench has the board");
    let options = ServerOptions { clients: 64, ..ServerOptions::default() };
    Server::start(bench, "127.0.0.1:0", options).expect("the loopback has a free port")
});
