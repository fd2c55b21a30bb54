using System.Text;
using Vestige.Engine.Commands;

namespace Vestige.Web.Definitions;

/// <summary>The statements of a plan as a file that someone else may read, change and run on the target.</summary>
public static class StatementsFile
{
    public const string Type = "application/sql";

    /// <summary>In the order in which they run, each ended by a semicolon; what is not made stands at the end as comments.</summary>
    /// <param name="crossing">The crossing's name.</param>
    /// <param name="target">The target's connection.</param>
    /// <param name="plan">The plan.</param>
    public static byte[] Of(string crossing, string target, CrossingPlan plan)
    {
        ArgumentNullException.ThrowIfNull(plan);
        var text = new StringBuilder();
        text.Append(Comment($"Tables of the crossing {crossing} on {target}, as a start would make them."))
            .Append(Comment("Keys, indexes and references can be left out: a start builds those that are missing after the rows."))
            .Append('\n');
        foreach (var statement in plan.Statements)
        {
            text.Append(statement.Text.TrimEnd().TrimEnd(';')).Append(";\n\n");
        }

        foreach (var part in plan.NotMade)
        {
            text.Append(Comment($"Not made: {part}"));
        }

        return Encoding.UTF8.GetBytes(text.ToString());
    }

    private static string Comment(string text) => $"-- {text.ReplaceLineEndings(" ")}\n";
}
