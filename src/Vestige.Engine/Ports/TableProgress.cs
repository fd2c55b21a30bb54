using Vestige.Core.Loading;
using Vestige.Core.Positions;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Ports;

/// <summary>How far one table of a crossing is, as kept on the target beside its rows.</summary>
/// <param name="Table">The source's table.</param>
/// <param name="Loaded">Its initial load is complete.</param>
/// <param name="Position">Loaded as of here; changes up to it are in the rows already.</param>
/// <param name="HeldCause">Why nothing is applied to it any more; null when it is not held.</param>
/// <param name="Part">What of an interrupted load is there; null when there is nothing to continue with.</param>
/// <param name="Into">
/// The target's tables that it goes into, one a line; empty while there are none of its own; null where it is the one that the target names
/// by itself.
/// </param>
/// <param name="Settled">The references from and to it are built, as far as they are to be.</param>
/// <param name="Fingerprint">The <see cref="SchemaFingerprint"/> of the source's table when it was loaded; null where unknown.</param>
public sealed record TableProgress(
    TableName Table,
    bool Loaded,
    LogPosition Position,
    string? HeldCause = null,
    LoadCheckpoint? Part = null,
    string? Into = null,
    bool Settled = true,
    string? Fingerprint = null
)
{
    /// <summary>The log of <see cref="Position"/>; null where it is that of the crossing.</summary>
    public LogIdentity? Log { get; init; }

    /// <summary>
    /// Up to where changes were applied to it on its own, after it was loaded beside the stream or was held: never beyond the crossing's
    /// position, and on the branch of <see cref="Position"/>. Null where the stream applies its changes. Of a held table, as of where its
    /// rows stand; null where it cannot continue from there.
    /// </summary>
    public LogPosition? Reached { get; init; }

    /// <summary>
    /// Up to where a person has agreed to what is done to it at the source, after it was held there; null where there is nothing agreed to
    /// that it has yet to pass. On the branch of <see cref="Position"/>.
    /// </summary>
    public LogPosition? AgreedUpTo { get; init; }

    /// <summary>Whether the stream applies its changes.</summary>
    public bool IsInStream => Loaded && Reached is null;

    /// <summary>The same with its positions on a branch.</summary>
    internal TableProgress On(int branch) =>
        Position.Branch == branch
        && (Part is null || Part.Since.Branch == branch)
        && (Reached is null || Reached.Value.Branch == branch)
        && (AgreedUpTo is null || AgreedUpTo.Value.Branch == branch)
            ? this
            : this with
            {
                Position = Position.On(branch),
                Reached = Reached?.On(branch),
                AgreedUpTo = AgreedUpTo?.On(branch),
                Part = Part is { } part ? part with { Since = part.Since.On(branch) } : null,
            };

    /// <summary>The same table before its load.</summary>
    public TableProgress Anew() =>
        this with
        {
            Loaded = false,
            Position = LogPosition.Zero,
            HeldCause = null,
            Part = null,
            Settled = false,
            Fingerprint = null,
            Log = null,
            Reached = null,
            AgreedUpTo = null,
        };

    /// <summary>The same table held at a position.</summary>
    /// <param name="position">From there on its changes are not applied.</param>
    /// <param name="cause">Why, as sentences.</param>
    /// <param name="reached">As of where its rows stand; null where it cannot continue from there.</param>
    public TableProgress HeldAt(LogPosition position, string cause, LogPosition? reached) =>
        this with
        {
            Position = position,
            Log = null,
            HeldCause = reached?.Branch == position.Branch ? Ports.HeldCause.Waiting(cause) : Ports.HeldCause.Lasting(cause),
            Reached = reached?.Branch == position.Branch ? reached : null,
            AgreedUpTo = null,
        };

    /// <summary>A held table that continues from where its rows stand, through what holds it.</summary>
    public TableProgress Agreed() =>
        this with
        {
            Position = Reached ?? Position,
            HeldCause = null,
            AgreedUpTo = Position,
        };

    /// <summary>The tables of <see cref="Into"/>; null where that is null.</summary>
    public IReadOnlyList<TableName>? IntoTables => Into is null ? null : NamesIn(Into);

    /// <summary>The tables of such a text.</summary>
    public static IReadOnlyList<TableName> NamesIn(string into)
    {
        ArgumentNullException.ThrowIfNull(into);
        return [.. into.Split('\n', StringSplitOptions.RemoveEmptyEntries).Select(TableName.Parse)];
    }

    /// <summary>The target's tables as kept with the progress.</summary>
    public static string NamesOf(IEnumerable<TableName> tables) => string.Join('\n', tables.Select(table => table.ToText()));

    public bool Held => HeldCause is not null;

    /// <summary>Whether it was loaded from beyond the end of a branch of its log.</summary>
    internal bool IsAheadOf(LogPosition end) => Loaded && !Held && Position.Branch == end.Branch && Position > end;
}
