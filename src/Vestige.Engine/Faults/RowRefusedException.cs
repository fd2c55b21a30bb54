using Vestige.Core.Changes;
using Vestige.Core.Schemas;

namespace Vestige.Engine.Faults;

/// <summary>The target did not take a row, for a reason that waiting will not mend.</summary>
public sealed class RowRefusedException : PortException
{
    public RowRefusedException() { }

    public RowRefusedException(string message)
        : base(message) { }

    public RowRefusedException(string message, Exception? innerException)
        : base(message, innerException) { }

    public TableName Table { get; init; }

    public ChangeKind Kind { get; init; }

    /// <summary>The key as shown to people; empty when the target did not say which row it was.</summary>
    public string Key { get; init; } = "";

    /// <summary>
    /// Whether the table itself is in the way, since its type at the source has grown: the table is held where refused rows may not wait.
    /// </summary>
    public bool OfType { get; init; }

    /// <summary>The column of the target's table that does not take NULL, where that is why; else null.</summary>
    public string? NullIn { get; init; }

    /// <summary>The target's own words.</summary>
    public string Answer { get; init; } = "";

    /// <summary>The same refusal, told by the source's table, by which people find the row.</summary>
    public RowRefusedException Of(TableName source) =>
        new(Message, this)
        {
            Table = source,
            Kind = Kind,
            Key = Key,
            OfType = OfType,
            NullIn = NullIn,
            Answer = Answer,
            Remedy = Remedy,
        };
}
