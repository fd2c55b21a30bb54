using System.Text.Json;
using Vestige.Core.Treatments;

namespace Vestige.Web.Pages.Crossings;

/// <summary>
/// The fields for one table's rows on the New crossing page. They and the steps' text say the same: what was changed in the fields since
/// they were drawn is written into the text, and fields are always drawn from the text.
/// </summary>
public sealed class TableChoicesForm
{
    /// <summary>The table that the fields are for.</summary>
    public string? Table { get; set; }

    /// <summary>The condition that rows must meet; empty for all.</summary>
    public string? Keep { get; set; }

    public List<ColumnChoiceForm> Columns { get; set; } = [];

    /// <summary>The tables among which rows are divided, and lines left empty.</summary>
    public List<SplitChoiceForm> Split { get; set; } = [];

    /// <summary>What the fields said when they were drawn.</summary>
    public string? Was { get; set; }

    /// <summary>Whether a person changed a field.</summary>
    public bool IsChanged => Table is not null && Was is not null && Was != Content();

    public static TableChoicesForm Of(string table, TableChoices choices)
    {
        ArgumentNullException.ThrowIfNull(choices);
        var form = new TableChoicesForm
        {
            Table = table,
            Keep = choices.Keep,
            Columns = [.. choices.Columns.Select(ColumnChoiceForm.Of)],
            Split = [.. choices.Split.Select(part => new SplitChoiceForm { Into = part.Into, When = part.When })],
        };
        form.Was = form.Content();
        return form;
    }

    /// <summary>What is chosen now.</summary>
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

    private static string OnOneLine(string? text) =>
        string.Join(' ', (text ?? "").Split((char[]?)null, StringSplitOptions.RemoveEmptyEntries));

    private static bool Any(params string?[] texts) => Array.Exists(texts, text => !string.IsNullOrEmpty(text));
}
