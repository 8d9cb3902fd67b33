Feature: The harbour master's rules for berths
  The rules for every boat that asks for a berth for a night.

  Background:
    Given a draught of 1.0 metres

  @smoke
  Scenario: A boat gets the smallest berth that takes it
    When a boat of 7.5 metres asks
    Then it lies in A1

  Scenario: A deep keel needs a deep berth
    Given a draught of 2.0 metres
    When a boat of 7.5 metres asks
    Then it lies in B1

  Scenario: A boat that is too long is sent on
    When a boat of 24 metres asks
    Then it is sent on with the words "try the town quay"

  Scenario Outline: What a stay costs
    When a boat of <length> metres stays <nights> nights in month <month>
    Then it pays <fee> crowns

    @category=billing
    Examples:
      | length | nights | month | fee |
      | 8      | 1      | 7     | 24  |
      | 10     | 2      | 7     | 60  |
      | 10     | 2      | 1     | 30  |

  Rule: Boats on the list go first
    Whoever is on the list keeps her berth, whatever comes in before her. The list is written on
    Mondays; it hangs beside the door.

    Scenario: A listed boat keeps its berth
      Given the list
        | boat       | berth |
        | Grey Heron | B1    |
      When "Grey Heron" comes in
      Then it lies in B1

    @wip
    Scenario: The pilot boat has a berth of her own
      Given the pilots' list
        | boat      | berth |
        | Saltmarsh | A1    |
      When a boat of 7.5 metres asks
      Then it lies in A2
