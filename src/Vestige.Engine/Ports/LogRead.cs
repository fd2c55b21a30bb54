using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>What one read of a log gave.</summary>
/// <param name="Fragments">In commit order; the parts of a transaction follow each other. May be empty.</param>
/// <param name="Relations">Forms of tables that the fragments name and that no earlier read of this reader gave.</param>
/// <param name="Passed">The reader has seen everything up to here, chosen tables or not. Never inside a transaction.</param>
/// <param name="AtHead">There was nothing beyond at the time of the read.</param>
public sealed record LogRead(
    IReadOnlyList<LogFragment> Fragments,
    IReadOnlyDictionary<int, TableSchema> Relations,
    LogPosition Passed,
    bool AtHead
)
{
    /// <summary>
    /// Where the log can be continued after <see cref="Passed"/>, in the source's words; null where the position says that.
    /// </summary>
    public string? PassedToken { get; init; }

    /// <summary>
    /// What the reader wants to find again when the log is opened next, by name; a later note of a name takes the place of an
    /// earlier one. Durable at the latest with the fragments of this read, never before them, and before anything is confirmed
    /// of what follows. Given only between transactions.
    /// </summary>
    public IReadOnlyDictionary<string, string> Notes { get; init; } = NoNotes;

    /// <summary>Versions of tables that were found, in log order: at the latest with the fragments that are written under them.</summary>
    public IReadOnlyList<ToldVersion> Versions { get; init; } = [];

    private static readonly Dictionary<string, string> NoNotes = [];

    /// <summary>The same with its positions on another branch than the first, for readers that know of one log only.</summary>
    public LogRead On(int branch) =>
        branch == 0
            ? this
            : this with
            {
                Fragments = [.. Fragments.Select(fragment => fragment with { Position = fragment.Position.On(branch) })],
                Passed = Passed.On(branch),
                Versions = [.. Versions.Select(version => version.On(branch))],
            };
}
