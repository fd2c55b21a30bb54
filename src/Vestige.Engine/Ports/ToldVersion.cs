using Vestige.Core.Positions;
using Vestige.Core.Schemas;
using Vestige.Core.SchemaVersions;

namespace Vestige.Engine.Ports;

/// <summary>A version of a table as the reader of a log tells it.</summary>
/// <param name="Table">The table, by the name under which it crosses.</param>
/// <param name="From">Changes of rows after this position are of this version.</param>
/// <param name="Certainty">How that is known.</param>
/// <param name="Schema">The schema from there on; null where there is no such table any more.</param>
/// <param name="What">
/// What was done, as the end of a sentence; empty where nothing is known to have been done: the version counts then only for a table of
/// which no version is known.
/// </param>
public sealed record ToldVersion(TableName Table, LogPosition From, VersionCertainty Certainty, TableSchema? Schema, string What)
{
    /// <summary>The schema before; null where that is not known, or there was no such table.</summary>
    public TableSchema? Before { get; init; }

    /// <summary>Up to here the schema before is known to hold; null where it holds up to <see cref="From"/>, or is not known.</summary>
    public LogPosition? NotBefore { get; init; }

    /// <summary>Which of several changes of the table at that position it is, from 0 on; the same whenever the log is read again.</summary>
    public int Ordinal { get; init; }

    /// <summary>What was done that the schema does not show, as with parts of the table.</summary>
    public IReadOnlyList<SchemaChange> Beside { get; init; } = [];

    /// <summary>The statement that was run, for display only; null where the log does not carry it.</summary>
    public string? Statement { get; init; }

    /// <summary>The same with its positions on a branch.</summary>
    internal ToldVersion On(int branch) => this with { From = From.On(branch), NotBefore = NotBefore?.On(branch) };
}
