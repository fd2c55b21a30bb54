namespace Vestige.Engine.Ports;

/// <summary>How often a change reaches a target, in words.</summary>
public static class DeliveryWords
{
    /// <summary>A few words, as the API has them.</summary>
    public static string Word(this Delivery delivery) =>
        delivery switch
        {
            Delivery.ExactlyOnce => "exactly once",
            Delivery.ExactlyOncePerTable => "exactly once per table",
            _ => "at least once with an id",
        };

    /// <summary>Sentences for whoever is about to start a crossing.</summary>
    public static string Sentence(this Delivery delivery) =>
        delivery switch
        {
            Delivery.ExactlyOnce => "Each change takes effect exactly once: on the target two small tables keep the position beside the "
                + "rows; they are removed with the crossing.",
            Delivery.ExactlyOncePerTable => "Each change takes effect exactly once in its table: the target keeps the position of each "
                + "table with its rows. Tables may be a moment apart.",
            _ => "Each change comes at least once; after a failure it may come again, with the identifier that it had.",
        };
}
