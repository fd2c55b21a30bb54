using Microsoft.AspNetCore.Mvc;
using Vestige.Core.Reconciling;
using Vestige.Core.Schemas;
using Vestige.Engine.Commands;
using Vestige.Engine.Reconciling;
using Vestige.Web.Connections;
using Vestige.Web.Reconciling;

namespace Vestige.Web.Pages.Crossings;

/// <summary>What one comparison found: each table's segments, the rows that differ, and their repair.</summary>
public class ReconciliationModel(CrossingEngine engine, ConnectionDirectory connections, TimeProvider clock)
    : CrossingPage(engine, connections, clock)
{
    /// <summary>So many rows of a table are listed at once.</summary>
    public const int Listed = 50;

    public override string View => "reconcile";

    public Reconciliation Found { get; private set; } = null!;

    /// <summary>Those with rows that differ first, then those that were not compared, then the others; by name.</summary>
    public IEnumerable<TableFinding> Tables =>
        Found
            .Tables.OrderByDescending(table => table.Missing + table.Extra + table.Differing > 0)
            .ThenByDescending(table => table.Reason is not null)
            .ThenBy(table => table.Into);

    /// <summary>The table whose rows are shown; null for none.</summary>
    public TableFinding? Shown { get; private set; }

    public IReadOnlyList<DifferenceView> Rows { get; private set; } = [];

    /// <summary>The row that is looked at; null for none.</summary>
    public DifferenceView? Chosen { get; private set; }

    /// <summary>The statement by which the chosen row would be repaired.</summary>
    public string Statement { get; private set; } = "";

    public int From { get; private set; }

    /// <summary>The place of the segment whose rows alone are shown; null for all.</summary>
    public int? Segment { get; private set; }

    /// <summary>How many rows are listed: of the segment, or of the table.</summary>
    public int Count { get; private set; }

    /// <summary>What the page was asked for, to be asked for again.</summary>
    public string Asked { get; private set; } = "";

    public bool Runs => Engine.Reconcile.Running(Status.Name)?.Id == Found.Id;

    public async Task<IActionResult> OnGetAsync(
        string name,
        string id,
        string? table,
        int? row,
        int? from,
        int? segment,
        string? part,
        CancellationToken cancellation
    )
    {
        if (!Find(name) || await Engine.Reconcile.FindAsync(name, id, cancellation) is not { } found)
        {
            return NotFound();
        }

        Found = found;
        From = Math.Max(0, from ?? 0);
        Shown = found.Tables.FirstOrDefault(one => one.Into.ToString() == table)
            ?? found.Tables.FirstOrDefault(one => one.Rows.Count > 0)
            ?? found.Tables.FirstOrDefault(one => one.Segments.Count > 0);
        if (Shown is { } shown)
        {
            Segment = segment is { } wanted && wanted >= 0 && wanted < shown.Segments.Count ? wanted : null;
            var rows = shown
                .Rows.Select((one, i) => (Row: one, Place: i))
                .Where(one => Segment is null || one.Row.Segment == Segment)
                .ToList();
            Count = rows.Count;
            Rows = [.. rows.Skip(From).Take(Listed).Select(one => new DifferenceView(shown, one.Row, one.Place))];
            Asked = AddressOf(shown, Segment, From, row);
            if (row is { } place && place >= 0 && place < shown.Rows.Count)
            {
                Chosen = new DifferenceView(shown, shown.Rows[place], place);
                Statement = Engine.Reconcile.Repairs.StatementFor(name, shown, shown.Rows[place]);
            }
        }

        return part == "live" ? Partial("Crossings/_Reconciliation", this) : Page();
    }

    /// <summary>The query under which a table's rows are shown.</summary>
    public static string AddressOf(TableFinding table, int? segment = null, int from = 0, int? row = null)
    {
        ArgumentNullException.ThrowIfNull(table);
        return FormattableString.Invariant(
            $"?table={Uri.EscapeDataString(table.Into.ToString())}{(segment is { } only ? $"&segment={only}" : "")}"
        )
            + FormattableString.Invariant($"{(from > 0 ? $"&from={from}" : "")}{(row is { } place ? $"&row={place}" : "")}"
        );
    }

    /// <summary>Total rows of the source's table as estimated, for what a sample says.</summary>
    public static string SampleWords(TableFinding table) =>
        table.Missing + table.Extra + table.Differing > 0
            ? ""
            : ReconcileWords.OfSample(Math.Max(table.EstimatedRows, table.SourceRows), table.SourceRows);

    /// <summary>The symbol of a kind of difference.</summary>
    public static string MarkOf(DifferenceKind kind) =>
        kind switch
        {
            DifferenceKind.Missing => "−",
            DifferenceKind.Extra => "+",
            _ => "~",
        };
}
