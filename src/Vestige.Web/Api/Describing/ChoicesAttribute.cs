using Vestige.Core.Alerts;
using Vestige.Core.Crossings;
using Vestige.Core.Headlines;
using Vestige.Core.SchemaVersions;

namespace Vestige.Web.Api.Describing;

/// <summary>The words that a text is one of.</summary>
[AttributeUsage(AttributeTargets.Property | AttributeTargets.Parameter)]
public sealed class ChoicesAttribute : Attribute
{
    public ChoicesAttribute(params string[] words) => Words = words;

    /// <param name="choices">An enum, each of whose values is written as one word.</param>
    public ChoicesAttribute(Type choices)
    {
        ArgumentNullException.ThrowIfNull(choices);
        Words = [.. Enum.GetValues(choices).Cast<Enum>().Select(Word)];
    }

    public IReadOnlyList<string> Words { get; }

    private static string Word(Enum choice) =>
        choice switch
        {
            CrossingState state => state.Word(),
            TableState state => state.Word(),
            HeadlineWord word => word.Text(),
            HeadlineAction action => action.Text(),
            Vestige.Engine.Tracing.TraceStage stage => char.ToLowerInvariant(stage.ToString()[0]) + stage.ToString()[1..],
            SchemaChangeKind kind => kind.Word(),
            NeedKind kind => Alerting.AlertText.Word(kind),
            _ => choice.ToString().ToLowerInvariant(),
        };
}
