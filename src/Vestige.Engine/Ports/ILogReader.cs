namespace Vestige.Engine.Ports;

/// <summary>Reads a source's log forward from a position. Used by one caller at a time.</summary>
public interface ILogReader : IAsyncDisposable
{
    /// <summary>
    /// The note that tells which database it is, as <see cref="IProbe.GetIdentityAsync"/> does; given by readers of what may be out of
    /// reach later.
    /// </summary>
    const string DatabaseNote = "database";

    /// <summary>
    /// Returns what there is, waiting up to <paramref name="wait"/> when there is nothing. At most about a megabyte a read.
    /// The memory of the fragments stays valid. Throws <see cref="Faults.PortException"/> when the log cannot be read and
    /// <see cref="Faults.PlaceLostException"/> when it no longer holds what comes next.
    /// </summary>
    ValueTask<LogRead> ReadAsync(TimeSpan wait, CancellationToken cancellation);
}
