using System.Text.Json;
using Vestige.Core.Treatments;

namespace Vestige.Web.Pages.Crossings;

/// <summary>
/// The fields for one table's rows on the New crossing page. They and the steps' text say the same: what was changed in the fields since
/// they were drawn is written into the text, and fields are always drawn from the text.
/// </summary>
public sealed class TableChoicesForm
{
    /// <summary>The most columns that are shown at once.</summary>
    public const int MostShown = 60;

    /// <summary>The table that the fields are for.</summary>
    public string? Table { get; set; }

    /// <summary>The condition that rows must meet; empty for all.</summary>
    public string? Keep { get; set; }

    /// <summary>The columns that are shown: all of a usual table, some of a very wide one.</summary>
    public List<ColumnChoiceForm> Columns { get; set; } = [];

    /// <summary>A part of the names of the columns to show; empty for those with a choice, then the first ones.</summary>
    public string? Find { get; set; }

    /// <summary>How many columns the table has.</summary>
    public int Total { get; private set; }

    /// <summary>The tables among which rows are divided, and lines left empty.</summary>
    public List<SplitChoiceForm> Split { get; set; } = [];

    /// <summary>What the fields said when they were drawn.</summary>
    public string? Was { get; set; }

    /// <summary>Whether a person changed a field.</summary>
    public bool IsChanged => Table is not null && Was is not null && Was != Content();

    /// <summary>Whether the table has too many columns to show all at once.</summary>
    public bool IsWide => Total > MostShown;

    /// <summary>The fields as the choices have them.</summary>
    /// <param name="table">The table.</param>
    /// <param name="choices">What is chosen for it.</param>
    /// <param name="find">A part of the names of the columns to show; null or empty for no narrowing.</param>
    public static TableChoicesForm Of(string table, TableChoices choices, string? find = null)
    {
        ArgumentNullException.ThrowIfNull(choices);
        var form = new TableChoicesForm
        {
            Table = table,
            Keep = choices.Keep,
            Find = find,
            Total = choices.Columns.Count,
            Columns = [.. Shown(choices.Columns, find?.Trim() ?? "").Select(ColumnChoiceForm.Of)],
            Split = [.. choices.Split.Select(part => new SplitChoiceForm { Into = part.Into, When = part.When })],
        };
        form.Was = form.Content();
        return form;
    }

    /// <summary>What is chosen now; a column that is not shown keeps its choice.</summary>
    /// <param name="before">What the text said when the fields were drawn.</param>
    public TableChoices Choices(TableChoices before)
    {
        ArgumentNullException.ThrowIfNull(before);
        return new TableChoices(
            string.IsNullOrWhiteSpace(Keep) ? null : Keep.Trim(),
            [
                .. before.Columns.Select(column =>
                    Columns.Find(form => form.Column == column.Column) is { } chosen ? chosen.Choice(column) : column
                ),
            ],
            [
                .. Split
                    .Where(part => !string.IsNullOrWhiteSpace(part.Into) || !string.IsNullOrWhiteSpace(part.When))
                    .Select(part => new SplitTable(
                        part.Into?.Trim() ?? "",
                        string.IsNullOrWhiteSpace(part.When) ? null : part.When.Trim()
                    )),
            ]
        );
    }

    /// <summary>
    /// What the fields say. A field left empty and one that is not there are the same, and so are line breaks and blanks: browsers change
    /// them.
    /// </summary>
    private string Content() =>
        JsonSerializer.Serialize(
            new
            {
                Keep = OnOneLine(Keep),
                Columns = Columns
                    .Where(column => column.LeftOut || column.AllowLoss || Any(column.Name, column.Type, column.Mask, column.Detail))
                    .Select(column =>
                        new object[]
                        {
                            column.Column ?? "",
                            column.LeftOut,
                            OnOneLine(column.Name),
                            OnOneLine(column.Type),
                            column.AllowLoss,
                            OnOneLine(column.Mask),
                            OnOneLine(column.Detail),
                        }
                    ),
                Split = Split.Where(part => Any(part.Into, part.When)).Select(part => new[] { OnOneLine(part.Into), OnOneLine(part.When) }),
            }
        );

    private static IEnumerable<ColumnChoice> Shown(IReadOnlyList<ColumnChoice> columns, string find)
    {
        var wanted =
            find.Length > 0
                ? columns.Where(column => column.Column.Contains(find, StringComparison.OrdinalIgnoreCase))
                : columns.OrderByDescending(column => column != new ColumnChoice(column.Column));
        var shown = wanted.Take(MostShown).Select(column => column.Column).ToHashSet();
        return columns.Where(column => shown.Contains(column.Column));
    }

    private static string OnOneLine(string? text) =>
        string.Join(' ', (text ?? "").Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries));

    private static bool Any(params string?[] texts) => Array.Exists(texts, text => !string.IsNullOrEmpty(text));
}
