using System.Globalization;
using System.Text.Json.Serialization;

namespace Vestige.Core.Positions;

/// <summary>
/// A position in one source's log: an offset on a branch. Ordered by both, since branches are numbered in the order in which the
/// source wrote them. A branch that ended has an end, and an offset beyond it is no position (<see cref="BranchEnd"/>).
/// </summary>
/// <param name="Branch">
/// The branch's number, from 0, local to the spool that reads the log: what lies outside, such as a target, keeps the branch's
/// <see cref="LogIdentity"/> instead.
/// </param>
/// <param name="Offset">The place on the branch as an ordered number; what it counts is the source's own affair, such as bytes.</param>
[JsonConverter(typeof(LogPositionJson))]
public readonly record struct LogPosition(int Branch, ulong Offset) : IComparable<LogPosition>
{
    /// <summary>On the first branch.</summary>
    public LogPosition(ulong offset)
        : this(0, offset) { }

    /// <summary>The number that stands for a branch before all that a spool knows.</summary>
    public const int BeforeAll = -1;

    private const string BeforeAllText = "-1";

    /// <summary>The position before everything on the first branch.</summary>
    public static LogPosition Zero => default;

    public int CompareTo(LogPosition other) => Branch == other.Branch ? Offset.CompareTo(other.Offset) : Branch.CompareTo(other.Branch);

    public static bool operator <(LogPosition left, LogPosition right) => left.CompareTo(right) < 0;

    public static bool operator >(LogPosition left, LogPosition right) => left.CompareTo(right) > 0;

    public static bool operator <=(LogPosition left, LogPosition right) => left.CompareTo(right) <= 0;

    public static bool operator >=(LogPosition left, LogPosition right) => left.CompareTo(right) >= 0;

    public static LogPosition Max(LogPosition left, LogPosition right) => left >= right ? left : right;

    public static LogPosition Min(LogPosition left, LogPosition right) => left <= right ? left : right;

    /// <summary>Another offset on the same branch.</summary>
    public LogPosition At(ulong offset) => new(Branch, offset);

    /// <summary>The same offset on another branch.</summary>
    public LogPosition On(int branch) => new(branch, Offset);

    /// <summary>The text form by which positions are stored: the offset, led by the branch's number and a colon unless that is 0.</summary>
    public override string ToString() =>
        Branch == 0 ? Offset.ToString(CultureInfo.InvariantCulture) : string.Create(CultureInfo.InvariantCulture, $"{Branch}:{Offset}");

    /// <summary>Reads what <see cref="ToString"/> wrote. Throws <see cref="FormatException"/> for anything else.</summary>
    public static LogPosition Parse(string text)
    {
        ArgumentNullException.ThrowIfNull(text);
        var colon = text.IndexOf(':', StringComparison.Ordinal);
        var head = colon < 0 ? "0" : text[..colon];
        var isBranch = int.TryParse(head, NumberStyles.None, CultureInfo.InvariantCulture, out var branch);
        if (head == BeforeAllText)
        {
            (isBranch, branch) = (true, BeforeAll);
        }

        return isBranch && ulong.TryParse(text.AsSpan(colon + 1), NumberStyles.None, CultureInfo.InvariantCulture, out var offset)
            ? new LogPosition(branch, offset)
            : throw new FormatException($"'{text}' is not a position.");
    }
}
