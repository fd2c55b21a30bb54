using Vestige.Core.Positions;
using Vestige.Core.Readiness;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>A system whose log can be read. Safe for several threads; the readers it opens are not.</summary>
public interface ILogSource
{
    /// <summary>Samples the log; <paramref name="captured"/> is where the reader stands, and the positions are of its branch.</summary>
    Task<SourceHead> SampleAsync(LogPosition captured, CancellationToken cancellation);

    /// <summary>
    /// Makes the source keep its log for this reader from now on, forgetting any place it kept before, and returns the
    /// place after which everything can be read. Called only while nothing of the log is held here.
    /// </summary>
    Task<LogStart> BeginLogAsync(CancellationToken cancellation);

    /// <summary>The log is not needed any more: the source need not keep it, and what was made there for reading it goes.</summary>
    Task EndLogAsync(CancellationToken cancellation);

    /// <summary>
    /// Whether the log that the source has now continues from where a reader stopped. Asked each time before the log is opened,
    /// since the system behind a connection may have become another.
    /// </summary>
    Task<LogContinuity> ContinueAsync(ResumeToken token, CancellationToken cancellation);

    /// <summary>
    /// Reads the log after a position, for the wanted tables only. Throws <see cref="Faults.PlaceLostException"/> when the log
    /// no longer reaches back that far, or is another than the one that was read.
    /// </summary>
    Task<ILogReader> OpenLogAsync(LogRequest request, CancellationToken cancellation);

    /// <summary>
    /// Returns when every change of these tables that is made from now on will be read. A table may have dropped out of what the
    /// source offers, and be offered again only once that loss is written down. Throws a transient
    /// <see cref="Faults.PortException"/> while one of them is not.
    /// </summary>
    Task EnsureReadAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation);

    /// <summary>Tells the source that everything up to the position is durable here, so that it may drop its log.</summary>
    Task ConfirmAsync(LogPosition position, CancellationToken cancellation);

    /// <summary>What must hold so that these tables can be read.</summary>
    Task<IReadOnlyList<ReadinessCheck>> CheckSourceAsync(IReadOnlyList<TableName> tables, CancellationToken cancellation);

    /// <summary>What reading it leaves on the source while crossings read it, as sentences for whoever is about to start one.</summary>
    string Footprint { get; }

    /// <summary>A position in the source's own notation.</summary>
    string Format(LogPosition position);

    /// <summary>Reads the source's own notation; null when the text is not a position.</summary>
    /// <param name="text">The text.</param>
    /// <param name="branch">The branch that it is a position of.</param>
    LogPosition? Parse(string text, int branch);

    /// <summary>The bytes of log between two positions.</summary>
    long Distance(LogPosition from, LogPosition to);
}
