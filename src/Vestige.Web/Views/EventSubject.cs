using Vestige.Engine.Events;

namespace Vestige.Web.Views;

/// <summary>What an event is about: a crossing, a connection, or Vestige itself.</summary>
public static class EventSubject
{
    public static string Name(CrossingEvent happened)
    {
        ArgumentNullException.ThrowIfNull(happened);
        return happened.Crossing ?? happened.Connection ?? "Vestige";
    }

    /// <summary>The page of it.</summary>
    public static string Address(CrossingEvent happened)
    {
        ArgumentNullException.ThrowIfNull(happened);
        return happened switch
        {
            { Crossing: { } crossing } => $"/crossings/{crossing}/events",
            { Connection: { } connection } => $"/connections/{connection}",
            _ => "/events",
        };
    }
}
