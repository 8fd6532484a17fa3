/** The point that the scale box scales about follows the pointer. */

import { xToTime, yToValue } from '../../ui/geometry'
import { useSelection } from '../../view/selection'
import type { Surface } from '../surface'
import type { At, Tool } from './tool'

export class MovingPivot implements Tool {
  readonly cursor = 'crosshair'
  private before = useSelection.getState().pivot

  onMove(sheet: Surface, at: At): void {
    const time = xToTime(sheet.view, sheet.box, at.x)
    useSelection.setState({
      pivot: {
        time: at.alt ? time : Math.round(time),
        value: yToValue(sheet.view, sheet.box, at.y),
      },
    })
  }

  onUp(): void {}

  onCancel(): void {
    useSelection.setState({ pivot: this.before })
  }
}
