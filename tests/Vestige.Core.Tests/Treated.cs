using Vestige.Core.Changes;
using Vestige.Core.Treatments;

namespace Vestige.Core.Tests;

/// <summary>What treatments make of rows, for looking at.</summary>
internal static class Treated
{
    public static readonly DateTimeOffset At = new(2026, 3, 1, 8, 0, 0, TimeSpan.Zero);

    public static List<TreatedChange> Loaded(TableTreatment treatment, Row row)
    {
        var made = new List<TreatedChange>();
        treatment.Load(row, made);
        return made;
    }

    public static List<TreatedChange> By(TableTreatment treatment, RowChange change)
    {
        var made = new List<TreatedChange>();
        treatment.Treat(change, At, made);
        return made;
    }

    /// <summary>The values with bars between them; nothing for NULL.</summary>
    public static string Shown(Row row) =>
        string.Join('|', Enumerable.Range(0, row.Count).Select(i => row.KindAt(i) == ValueKind.Null ? "" : row.DisplayAt(i)));
}
