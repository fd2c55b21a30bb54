using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;

namespace Vestige.Engine.Ports;

/// <summary>What tells a table's latest version from one that is told again.</summary>
/// <param name="Table">The table.</param>
/// <param name="Number">The version's number.</param>
/// <param name="Digest">See <see cref="Core.SchemaVersions.SchemaDigest"/>.</param>
/// <param name="What">What was done.</param>
/// <param name="From">The position from which it holds.</param>
/// <param name="Log">The log of <paramref name="From"/>.</param>
public sealed record VersionMark(TableName Table, int Number, string Digest, string What, LogPosition From, LogIdentity Log)
{
    /// <summary>Which of several changes of the table at <see cref="From"/> it is, from 0 on.</summary>
    public int Ordinal { get; init; }

    /// <summary>Whether a change at that position of its log comes after it.</summary>
    internal bool IsBefore(LogPosition position, int ordinal) => position > From || (position == From && ordinal > Ordinal);

    /// <summary>Of a version that is kept, or is about to be.</summary>
    public static VersionMark Of(SchemaVersion version)
    {
        ArgumentNullException.ThrowIfNull(version);
        return new VersionMark(version.Table, version.Number, SchemaDigest.Of(version.Schema), version.What, version.From, version.Log)
        {
            Ordinal = version.Ordinal,
        };
    }
}
