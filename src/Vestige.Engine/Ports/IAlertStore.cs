using Vestige.Core.Alerts;
using Vestige.Engine.Alerting;

namespace Vestige.Engine.Ports;

/// <summary>Where alerts are kept, and the messages that tell of them until they are sent. Safe for several threads.</summary>
public interface IAlertStore
{
    /// <summary>The settings as last kept; the default ones while there are none.</summary>
    Task<AlertSettings> ReadSettingsAsync(CancellationToken cancellation);

    /// <summary>Alerts that stand, and the highest number ever given.</summary>
    Task<(IReadOnlyList<Alert> Standing, long LastNumber)> ReadAsync(CancellationToken cancellation);

    /// <summary>
    /// Keeps an alert, and messages of it to some channels, both or neither. What is to be told outlives the process.
    /// </summary>
    Task WriteAsync(Alert alert, IReadOnlyList<AlertMessage> messages, CancellationToken cancellation);
}
