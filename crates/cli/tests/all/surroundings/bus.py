"""A bus of its own with mocked services on it, led by lines on standard input.

Says where its buses are, does what each line asks, and says `done` after each.
"""

import os
import subprocess
import sys

import dbus
import dbusmock

NETWORKS = "org.freedesktop.NetworkManager"
ACTIVE = NETWORKS + ".Connection.Active"
POWER = "org.freedesktop.UPower"
LOGIN = "org.freedesktop.login1.Manager"


class Buses(dbusmock.DBusTestCase):
    pass


def mocked(template, parameters):
    process, mock = Buses.spawn_server_template(
        template, parameters, stdout=subprocess.PIPE
    )
    return process, mock


def main():
    Buses.start_system_bus()
    Buses.start_session_bus()


    running = []
    connections = 0
    networks = power = login = desktop = None
    print(os.environ["DBUS_SYSTEM_BUS_ADDRESS"])
    print(os.environ["DBUS_SESSION_BUS_ADDRESS"], flush=True)
    for line in sys.stdin:
        word, _, rest = line.strip().partition(" ")
        if word == "services":
            process = Buses.spawn_server(
                NETWORKS,
                "/org/freedesktop/NetworkManager",
                NETWORKS,
                system_bus=True,
                stdout=subprocess.PIPE,
            )
            running.append(process)
            bus = Buses.get_dbus(system_bus=True)
            networks = bus.get_object(NETWORKS, "/org/freedesktop/NetworkManager")
            networks.AddProperties(
                NETWORKS,
                {
                    "Metered": dbus.UInt32(0),
                    "ActiveConnections": dbus.Array([], signature="o"),
                },
                dbus_interface=dbusmock.MOCK_IFACE,
            )
            process, power = mocked("upower", {"OnBattery": False})
            running.append(process)
            process, login = mocked("logind", {})
            running.append(process)
        elif word == "desktop":
            process, desktop = mocked("notification_daemon", {})
            running.append(process)
        elif word == "metered":
            networks.UpdateProperties(
                NETWORKS, {"Metered": dbus.UInt32(int(rest))}, dbus_interface=dbusmock.MOCK_IFACE
            )
        elif word == "networks":
            paths = []
            for name in rest.split(","):
                connections += 1
                path = f"/org/freedesktop/NetworkManager/ActiveConnection/{connections}"
                networks.AddObject(
                    path, ACTIVE, {"Id": name}, [], dbus_interface=dbusmock.MOCK_IFACE
                )
                paths.append(dbus.ObjectPath(path))
            networks.UpdateProperties(
                NETWORKS,
                {"ActiveConnections": dbus.Array(paths, signature="o")},
                dbus_interface=dbusmock.MOCK_IFACE,
            )
        elif word == "battery":
            power.UpdateProperties(
                POWER, {"OnBattery": rest == "yes"}, dbus_interface=dbusmock.MOCK_IFACE
            )
        elif word == "idle":
            login.UpdateProperties(
                LOGIN,
                {"IdleHint": rest != "no", "IdleSinceHint": dbus.UInt64(0 if rest == "no" else int(rest))},
                dbus_interface=dbusmock.MOCK_IFACE,
            )
        elif word == "shutdown":
            login.EmitSignal(
                LOGIN, "PrepareForShutdown", "b", [True], dbus_interface=dbusmock.MOCK_IFACE
            )
        elif word == "told":
            calls = desktop.GetMethodCalls("Notify", dbus_interface=dbusmock.MOCK_IFACE)
            for _, arguments in calls:
                print(f"{arguments[3]} | {arguments[4]}".replace("\n", " "))
        print("done", flush=True)
    for process in running:
        process.terminate()
    Buses.tearDownClass()


main()
