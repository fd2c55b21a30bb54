using Vestige.Core.Crossings;
using Vestige.Core.Expressions;
using Vestige.Core.Schemas;
using Vestige.Core.Treatments;

namespace Vestige.Core.SchemaVersions;

/// <summary>Where the steps of a treatment name a column of a source's table.</summary>
public static class ColumnMentions
{
    /// <summary>What the steps do with the column, in their order; empty where none names it.</summary>
    /// <param name="steps">All steps of a definition.</param>
    /// <param name="table">The source's table.</param>
    /// <param name="column">Its column, by the name it has at the source.</param>
    public static IReadOnlyList<string> Of(IReadOnlyList<TreatmentStep> steps, TableName table, string column)
    {
        ArgumentNullException.ThrowIfNull(steps);
        ArgumentNullException.ThrowIfNull(column);
        var found = new List<string>();
        var name = column;
        foreach (var step in steps.Where(step => TablePattern.Matches(step.Tables, table.ToString())))
        {
            found.AddRange(InStep(step, name));
            if (step.LeaveOut?.Contains(name) == true)
            {
                break;
            }

            name = step.Rename?.FirstOrDefault(renamed => renamed.Column == name)?.To ?? name;
        }

        return found;
    }

    private static IEnumerable<string> InStep(TreatmentStep step, string column) =>
        [
            .. Names(step.Keep, column) ? [$"filter {step.Keep}"] : Array.Empty<string>(),
            .. (step.LeaveOut ?? []).Where(name => name == column).Select(_ => "left out"),
            .. (step.Rename ?? []).Where(one => one.Column == column).Select(one => $"renamed to {one.To}"),
            .. (step.Convert ?? []).Where(one => one.Column == column).Select(one => $"converted to {one.To}"),
            .. (step.Compute ?? []).Where(one => one.Column == column || Names(one.As, column)).Select(one => $"computes {one.Column}"),
            .. (step.Mask ?? []).Where(one => one.Column == column || one.Along == column).Select(one => $"mask of {one.Column}"),
            .. (step.Split ?? []).Where(one => Names(one.When, column)).Select(one => $"split into {one.Into}"),
            .. (step.Children ?? []).Where(one => one.From == column).Select(one => $"rows of {one.Into}"),
            .. (step.Key ?? []).Where(name => name == column).Select(_ => "key of messages"),
        ];

    /// <summary>Whether an expression names the column; one that cannot be read names none.</summary>
    private static bool Names(string? expression, string column)
    {
        if (expression is null)
        {
            return false;
        }

        try
        {
            return Lexer
                .Cut(expression)
                .Any(token =>
                    (token.Kind == TokenKind.Name && token.Text == column)
                    || (token.Kind == TokenKind.Word && string.Equals(token.Text, column, StringComparison.OrdinalIgnoreCase))
                );
        }
        catch (ExpressionException)
        {
            return false;
        }
    }
}
