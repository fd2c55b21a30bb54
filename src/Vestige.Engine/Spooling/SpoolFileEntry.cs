using Vestige.Core.Positions;
using Vestige.Engine.Ports;

namespace Vestige.Engine.Spooling;

/// <summary>A file of a spool and what is known of it. <see cref="Last"/> moves as it is written.</summary>
internal sealed class SpoolFileEntry(long number, ISpoolFile file, SpoolHeader header)
{
    public long Number => number;

    public ISpoolFile File => file;

    public SpoolHeader Header => header;

    /// <summary>The last whole transaction, or where the file begins while it has none.</summary>
    public LogPosition Last { get; set; } = header.Start;
}
