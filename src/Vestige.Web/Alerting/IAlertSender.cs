using Vestige.Core.Alerts;
using Vestige.Engine.Alerting;

namespace Vestige.Web.Alerting;

/// <summary>Sends on one kind of channel. Throws whatever keeps it from that; it is tried again.</summary>
public interface IAlertSender
{
    /// <summary>As channels name it.</summary>
    string Kind { get; }

    /// <summary>Sends, and returns what the other side answered.</summary>
    /// <param name="channel">The channel.</param>
    /// <param name="secret">Its secret; null for none.</param>
    /// <param name="alert">What is told.</param>
    /// <param name="address">Where it can be seen.</param>
    /// <param name="cancellation">Gives up.</param>
    Task<string> SendAsync(AlertChannel channel, string? secret, Alert alert, string address, CancellationToken cancellation);
}
