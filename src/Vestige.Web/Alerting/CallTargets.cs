using System.Net;
using System.Net.NetworkInformation;
using System.Net.Sockets;
using Vestige.Engine.Faults;
using Vestige.Web.Hosting;

namespace Vestige.Web.Alerting;

/// <summary>
/// Where webhooks and mail may go: not to Vestige's own address, under whatever name, since a call from there would count as one of a
/// program; nor to link-local addresses, where machines keep what is for themselves. Looked at after the name is resolved, and
/// the connection goes to the address that was looked at. Safe for several threads.
/// </summary>
public sealed class CallTargets(VestigeSettings settings)
{
    /// <summary>Marks a request to the stand-in that ships with the application.</summary>
    public static readonly HttpRequestOptionsKey<bool> ToStandIn = new("vestige.to-stand-in");

    /// <summary>Connects to a host that may be called; throws <see cref="RequestRefusedException"/> for another.</summary>
    public async Task<Socket> ConnectAsync(string host, int port, bool toStandIn, CancellationToken cancellation)
    {
        var addresses = await AddressesAsync(host, port, toStandIn, cancellation);
        var socket = new Socket(SocketType.Stream, ProtocolType.Tcp) { NoDelay = true };
        try
        {
            await socket.ConnectAsync(addresses, port, cancellation);
            return socket;
        }
        catch
        {
            socket.Dispose();
            throw;
        }
    }

    /// <summary>Throws <see cref="RequestRefusedException"/> where a host may not be called.</summary>
    public Task CheckAsync(string host, int port, bool toStandIn, CancellationToken cancellation) =>
        AddressesAsync(host, port, toStandIn, cancellation);

    private async Task<IPAddress[]> AddressesAsync(string host, int port, bool toStandIn, CancellationToken cancellation)
    {
        var addresses = await Dns.GetHostAddressesAsync(host.Trim('[', ']'), cancellation);
        if (
            !settings.AllowsLocalCalls && addresses.FirstOrDefault(address => IsForbidden(Plain(address), port, toStandIn)) is { } forbidden
        )
        {
            throw new RequestRefusedException(
                IsLinkLocal(Plain(forbidden))
                    ? $"{host} is a link-local address ({forbidden})."
                    : $"{host} on port {port} is Vestige itself."
            )
            {
                Remedy = "Name another address, or start Vestige with --allow-local-calls true.",
            };
        }

        return addresses;
    }

    private bool IsForbidden(IPAddress address, int port, bool toStandIn) =>
        IsLinkLocal(address) || (port == settings.Port && !toStandIn && IsOurs(address));

    private static IPAddress Plain(IPAddress address) => address.IsIPv4MappedToIPv6 ? address.MapToIPv4() : address;

    private static bool IsLinkLocal(IPAddress address) =>
        address.IsIPv6LinkLocal || (address.AddressFamily == AddressFamily.InterNetwork && address.GetAddressBytes() is [169, 254, _, _]);

    /// <summary>Unspecified addresses lead to this machine as well.</summary>
    private static bool IsOurs(IPAddress address) =>
        IPAddress.IsLoopback(address)
        || address.Equals(IPAddress.Any)
        || address.Equals(IPAddress.IPv6Any)
        || NetworkInterface
            .GetAllNetworkInterfaces()
            .Any(one => one.GetIPProperties().UnicastAddresses.Any(own => own.Address.Equals(address)));
}
