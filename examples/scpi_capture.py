"""A whole capture over the network with a general SCPI library instead of Deep Tap's own client.

Needs the packages pyvisa and pyvisa-py, and an instrument that is served:

    deep-tap serve --listen 127.0.0.1:5025
    python3 examples/scpi_capture.py 127.0.0.1 5025

It waits for the reset of the demo board to be released while power is good, reads the samples, and
checks that the trigger is where it should be. Exit code 0 when it is.
"""

import sys

import pyvisa

POWER_GOOD, RESET_N, CHIP_SELECT, CLOCK = range(4)
SAMPLES, BEFORE = 200_000, 50_000


def main(host: str, port: str) -> int:
    instrument = pyvisa.ResourceManager("@py").open_resource(f"TCPIP::{host}::{port}::SOCKET")
    instrument.read_termination = instrument.write_termination = "\n"
    instrument.timeout = 20_000  # milliseconds

    maker, model, serial, version = instrument.query("*IDN?").split(",")
    print(f"{model} by {maker}, version {version}, speaks SCPI {instrument.query('SYSTem:VERSion?')}")

    instrument.write("*RST;*CLS")
    instrument.write("ROUTe:SCAN (@0:7)")
    instrument.write("INPut0:THReshold 1.4")
    instrument.write(f"SENSe:SWEep:TINTerval 10NS;POINts {SAMPLES};OREFerence:POINts {BEFORE}")
    instrument.write(f"TRIGger:SOURce INTernal{RESET_N};SLOPe POSitive;QUALifier {POWER_GOOD},1")
    instrument.write("INITiate")
    print("operation register:", instrument.query("STATus:OPERation:CONDition?"))
    instrument.query("*OPC?")
    state, samples, trigger = instrument.query("SENSe:SWEep:PROGress?").split(",")
    print(f"{state}: {samples} samples, trigger at {trigger}")

    record = b""
    while block := instrument.query_binary_values("TRACe:DATA? LEVels", "B", container=bytes):
        record += block

    def edges(line):
        levels = [sample >> line & 1 for sample in record]
        return [n for n in range(1, len(levels)) if levels[n] != levels[n - 1]]

    released = edges(RESET_N)
    print(f"reset released at sample {released}, {len(edges(CLOCK))} edges on the clock")
    error = instrument.query("SYSTem:ERRor?")
    print("last error:", error)
    instrument.close()
    right = len(record) == SAMPLES and released == [BEFORE] and error.startswith("0,")
    return 0 if right and len(edges(CLOCK)) > 100 else 1


if __name__ == "__main__":
    sys.exit(main(*sys.argv[1:3]))
