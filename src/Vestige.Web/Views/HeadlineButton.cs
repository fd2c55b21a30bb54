using Vestige.Core.Headlines;

namespace Vestige.Web.Views;

/// <summary>The one thing to do next about a headline or a reason, as a button.</summary>
/// <param name="Label">On the button.</param>
/// <param name="Address">Where it leads.</param>
/// <param name="Posts">Whether it does something at once.</param>
public sealed record HeadlineButton(string Label, string Address, bool Posts = false)
{
    /// <summary>Null where nothing is to be done.</summary>
    /// <param name="crossing">The crossing.</param>
    /// <param name="source">Its source's connection.</param>
    /// <param name="action">What is to be done.</param>
    public static HeadlineButton? Of(string crossing, string source, HeadlineAction? action)
    {
        var page = $"/crossings/{crossing}";
        return action switch
        {
            HeadlineAction.Start => new("Start", $"{page}?handler=Start", Posts: true),
            HeadlineAction.Resume => new("Resume", $"{page}?handler=Resume", Posts: true),
            HeadlineAction.RetryNow => new("Retry now", $"{page}?handler=Retry", Posts: true),
            HeadlineAction.Reload => new("Reload …", $"{page}/reload?all=true"),
            HeadlineAction.OpenHeld => new("Held tables", $"{page}/tables"),
            HeadlineAction.OpenQuarantine => new("Quarantine", $"{page}/quarantine"),
            HeadlineAction.OpenDifferences => new("Differing rows", $"{page}/reconcile"),
            HeadlineAction.OpenSource => new("Source connection", $"/connections/{source}"),
            HeadlineAction.OpenDelay => new("Lag by stage", page),
            _ => null,
        };
    }
}
