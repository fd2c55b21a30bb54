using Vestige.Core.Changes;
using Vestige.Core.Expressions;
using Vestige.Core.Treatments;
using Vestige.Engine.Faults;
using Vestige.Engine.Ports;
using Vestige.Engine.Quarantining;
using Vestige.Engine.Treating;
using Vestige.Web.Treating;

namespace Vestige.Web.Quarantining;

/// <summary>
/// A change in quarantine as pages and the API show it: of a value under a mask only type and length, and what would be written
/// if it were tried now.
/// </summary>
public sealed class WaitingView
{
    private readonly IReadOnlySet<int> masked;
    private readonly TableTreatment? treatment;

    public WaitingView(WaitingChange change, CrossingTreatment treating)
    {
        ArgumentNullException.ThrowIfNull(change);
        ArgumentNullException.ThrowIfNull(treating);
        Change = change;
        (treatment, var problems) = treating.TryBuild(change.Schema);
        // Where nothing can be said of masks, nothing is shown.
        masked = treatment?.Hidden ?? Enumerable.Range(0, change.Schema.Columns.Count).ToHashSet();
        Problem = treatment is null ? problems[0].Found : null;
        var row = change.Change.After.IsNone ? change.Change.Before : change.Change.After;
        Key = row.IsNone ? "" : string.Join(", ", change.Schema.KeyOrdinals.Select(i => Shown(row, i)));
    }

    public WaitingChange Change { get; }

    /// <summary>The row's key; empty where the table has none.</summary>
    public string Key { get; }

    public bool KeyMasked => Change.Schema.KeyOrdinals.Any(masked.Contains);

    /// <summary>Why it cannot be treated at all; null when it can be.</summary>
    public string? Problem { get; private set; }

    /// <summary>
    /// By column: its name and type, the value before and after (null where there is no such row or the log left it out), and whether it
    /// can be edited.
    /// </summary>
    public IReadOnlyList<WaitingValue> Values =>
        [
            .. Change.Schema.Columns.Select(
                (column, i) =>
                    new WaitingValue(
                        column.Name,
                        column.Type,
                        Of(Change.Change.Before, i),
                        Of(Change.Change.After, i),
                        masked.Contains(i),
                        !Change.Change.After.IsNone && !Change.KeyOrdinals.Contains(i),
                        !Change.Change.After.IsNone && Change.Change.After.KindAt(i) == ValueKind.Null
                    )
            ),
        ];

    /// <summary>
    /// What would be written: the target's table, the statement and its values; empty where the treatment leaves the row out or fails.
    /// </summary>
    public IReadOnlyList<(string Into, string Statement, IReadOnlyList<(string Column, string Value)> Values)> Written(TargetSystem target)
    {
        ArgumentNullException.ThrowIfNull(target);
        if (treatment is null)
        {
            return [];
        }

        try
        {
            var made = new List<TreatedChange>();
            treatment.Treat(Change.Change, Change.CommittedAt, made);
            return
            [
                .. made.Select(one =>
                    (one.Table.Schema.Name.ToString(), target.Tables.StatementFor(one.Table.Schema, one.Change), ValuesOf(one))
                ),
            ];
        }
        catch (EvaluationException exception)
        {
            Problem = exception.Message;
            return [];
        }
    }

    private static IReadOnlyList<(string Column, string Value)> ValuesOf(TreatedChange made)
    {
        var row = made.Change.After.IsNone ? made.Change.Before : made.Change.After;
        return row.IsNone
            ? []
            :
            [
                .. made
                    .Table.Schema.Columns.Select(
                        (column, i) => (column.Name, Value: row.KindAt(i) == ValueKind.Absent ? "" : row.DisplayAt(i), Kind: row.KindAt(i))
                    )
                    .Where(value =>
                        value.Kind != ValueKind.Absent
                        && (
                            made.Change.Kind != ChangeKind.Delete
                            || made.Table.Schema.Columns.First(column => column.Name == value.Name).KeyOrdinal > 0
                        )
                    )
                    .Select(value => (value.Name, value.Value)),
            ];
    }

    private string? Of(Row row, int column) => row.IsNone || row.KindAt(column) == ValueKind.Absent ? null : Shown(row, column);

    private string Shown(Row row, int column) =>
        masked.Contains(column) ? BeforeAfter.Hidden(row, column, Change.Schema.Columns[column].Type) : row.DisplayAt(column);
}
