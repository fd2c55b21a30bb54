using System.Globalization;
using System.Text;
using Vestige.Core.Changes;
using Vestige.Core.Positions;

namespace Vestige.Core.Loading;

/// <summary>
/// How far the interrupted load of one table is: what a later load from another snapshot needs to continue with the ranges that
/// were not written. Immutable.
/// </summary>
/// <param name="Mark">What the source said of the first snapshot and the table in it, in the source's own notation.</param>
/// <param name="Since">
/// The position of that snapshot: what was written is as of here or later. Its text form leaves the branch out, which is that of the table.
/// </param>
/// <param name="Rows">Rows written in the finished ranges.</param>
/// <param name="Done">The finished ranges; ranges that touch are one.</param>
public sealed record LoadCheckpoint(string Mark, LogPosition Since, long Rows, IReadOnlyList<KeyRange> Done)
{
    /// <summary>With one more range finished.</summary>
    public LoadCheckpoint With(KeyRange range, long rows)
    {
        var apart = new List<KeyRange>();
        foreach (var done in Done)
        {
            if (Touch(done.UpTo, range.After))
            {
                range = range with { After = done.After };
            }
            else if (Touch(range.UpTo, done.After))
            {
                range = range with { UpTo = done.UpTo };
            }
            else
            {
                apart.Add(done);
            }
        }

        return this with
        {
            Rows = Rows + rows,
            Done = [.. apart, range],
        };
    }

    /// <summary>As it is kept on the target.</summary>
    public string ToText() =>
        string.Join(
            '|',
            Since.Offset.ToString(CultureInfo.InvariantCulture),
            Rows.ToString(CultureInfo.InvariantCulture),
            Convert.ToBase64String(Encoding.UTF8.GetBytes(Mark)),
            string.Join(',', Done.Select(range => $"{Text(range.After)}:{Text(range.UpTo)}"))
        );

    /// <summary>Reads what <see cref="ToText"/> wrote; null for null. Throws <see cref="FormatException"/> for anything else.</summary>
    public static LoadCheckpoint? Parse(string? text)
    {
        if (text is null)
        {
            return null;
        }

        var fields = text.Split('|');
        if (fields.Length != 4)
        {
            throw new FormatException("The parts of a load are kept in four fields.");
        }

        return new LoadCheckpoint(
            Encoding.UTF8.GetString(Convert.FromBase64String(fields[2])),
            new LogPosition(ulong.Parse(fields[0], CultureInfo.InvariantCulture)),
            long.Parse(fields[1], CultureInfo.InvariantCulture),
            [.. fields[3].Split(',', StringSplitOptions.RemoveEmptyEntries).Select(Range)]
        );
    }

    private static KeyRange Range(string text)
    {
        var ends = text.Split(':');
        return ends.Length == 2 ? new KeyRange(End(ends[0]), End(ends[1])) : throw new FormatException("A range has two ends.");
    }

    private static bool Touch(Row left, Row right) => !left.IsNone && left == right;

    private static string Text(Row end) => Convert.ToBase64String(end.Bytes.Span);

    private static Row End(string text) => new(Convert.FromBase64String(text));
}
